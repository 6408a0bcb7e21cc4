"""The helper: a small program that Yatagan runs on a node that allows commands. Nothing is installed there."""
