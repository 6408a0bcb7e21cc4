"""The commands: each fills a request, and shows the answer."""
