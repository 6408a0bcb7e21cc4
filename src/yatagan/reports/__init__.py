"""What was staged and verified, as a page with figures and as numbers."""
