"""What can be asked of Yatagan, whoever asks: requests in, answers out."""
