"""Switching sensors: an output that pulls the module's pull-up to ground while a tooth stands before it."""
