"""Coils (reluctance): a voltage of their own that grows with speed."""
