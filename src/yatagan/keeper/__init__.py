"""A keeper: a background process that owns a login to one node and works on requests of its user's commands."""
