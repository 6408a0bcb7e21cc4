"""Carrying a batch out: the pure scheduler, the executor, a step of each kind, retries, and the record at the end."""
