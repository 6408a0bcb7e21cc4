"""Reaching a node: login, trust, and the helper that runs there."""
