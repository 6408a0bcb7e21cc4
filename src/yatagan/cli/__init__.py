"""The command line: the only directory that knows Click and Rich, prints, or asks."""
