"""One file's bytes from store to store: read, hashed, written and synced as a pipeline; rate limit, extents, deltas."""
