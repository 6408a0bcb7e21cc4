"""Open archive formats: tar in all its dialects, zip, and what compresses them. No places and no stores.

What a node needs to make and unpack archives (`onnode.py` and what it imports) is kept to the standard library and to
what Python 3.6 understands.
"""
