"""What runs here and, as part of the helper, on nodes: standard library only, and nothing that Python 3.6 lacks."""
