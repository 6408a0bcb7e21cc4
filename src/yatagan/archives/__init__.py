"""Open archive formats: tar in all its dialects, zip, and what compresses them. No places and no stores.

`tar.py`, `making.py` and `unpacking.py` also run on nodes: they are kept to the standard library and to what
Python 3.6 understands.
"""
