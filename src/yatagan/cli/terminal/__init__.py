"""What is written to the terminal, and how the process ends."""
