"""Reaching a node: login, host keys, SFTP requests, and the program that runs there."""
