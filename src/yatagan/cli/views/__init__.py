"""What is drawn: plans, progress, verdicts; and what is asked."""
