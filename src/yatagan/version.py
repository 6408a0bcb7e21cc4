"""The version of Yatagan."""

__version__ = "0.1.0"
