"""Yatagan stages datasets between a workstation and cluster transfer nodes."""

__version__ = "0.1.0"
