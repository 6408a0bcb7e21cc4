"""Unattended batches: workers, which carry what is in the queue, and how they are started."""
