"""Names by template."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yatagan.planning.name_template import Template


@pytest.mark.parametrize(
    ("template", "names"),
    [
        ("{name}", [b"flux.csv", b"fen.tar.gz", b".rc", b"d\xff"]),
        ("{stem}-2026{suffix}", [b"flux-2026.csv", b"fen-2026.tar.gz", b".rc-2026", b"d\xff-2026"]),
        ("{parent}_{number:03}{suffix}", [b"07_001.csv", b"runs_002.tar.gz", b"_003", b"x_004"]),
        ("{{{number}}}", [b"{1}", b"{2}", b"{3}", b"{4}"]),
    ],
)
def test_names_by_template(template: str, names: list[bytes]) -> None:
    sources = [(b"runs/07/flux.csv", b"flux.csv"), (b"runs/fen.tar.gz", b"fen.tar.gz"), (b".rc", b".rc")]
    assert Template(template).names([*sources, (b"x/d\xff/", b"d\xff")]) == names


@pytest.mark.parametrize(
    "template", ["{0}", "{}", "{name", "name}", "{name!r}", "{name:5}", "{number:x}", "{name.upper}"]
)
def test_templates_that_are_none(template: str) -> None:
    with pytest.raises(ValueError, match=r"."):
        Template(template)


@given(st.text(max_size=300), st.binary(min_size=1, max_size=255))
def test_a_template_never_gives_a_path(template: str, name: bytes) -> None:
    try:
        [made] = Template(template).names([(b"a/" + name, name)])
    except ValueError:
        return
    assert made not in (b"", b".", b"..") and b"/" not in made and len(made) <= 255
