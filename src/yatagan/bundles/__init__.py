"""Bundles: archives that stand for directories, with an index of their members; on any store."""
