"""What scripts read: the JSON answers."""
