"""The name that was probably meant by one that does not exist."""

from __future__ import annotations

from collections.abc import Iterable


def nearest(name: str, known: Iterable[str]) -> str:
    """The known name that is most like `name`; "" when none is near, or when it is known itself."""
    from difflib import get_close_matches  # which costs time that only a mistake should

    found = get_close_matches(name.lower(), {each.lower(): each for each in known}, n=1, cutoff=0.6)
    return next((each for each in known if found and each.lower() == found[0] and each != name), "")
