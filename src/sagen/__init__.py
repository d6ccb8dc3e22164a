"""Sagen: from a sensor code to a proven repair."""

__version__ = "0.1.0"
