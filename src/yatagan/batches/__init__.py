"""A batch on disk: the states and steps of a plan that was accepted, its journal, its lock, and its counts."""
