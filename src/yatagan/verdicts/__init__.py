"""Verdicts: two places compared, entry by entry, and what is known of each."""
