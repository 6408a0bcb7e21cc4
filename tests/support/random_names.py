"""Names of files, drawn at random."""

from __future__ import annotations

from hypothesis import strategies as st

NAME = st.binary(min_size=1, max_size=40).filter(lambda name: b"\0" not in name and b"/" not in name)
