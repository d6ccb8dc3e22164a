"""Piezo sensors (knock): a burst that rings down after each tap."""
