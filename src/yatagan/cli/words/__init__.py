"""What happened, what it means and what to do next, in plain English."""
