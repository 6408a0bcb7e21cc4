"""What can be asked of Yatagan, by a command, a worker or a program: requests in, answers out."""
