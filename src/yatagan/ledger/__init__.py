"""The ledger: an append-only record of what was staged, listed and verified."""
