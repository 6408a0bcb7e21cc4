"""Digests and the lists that hold them."""
