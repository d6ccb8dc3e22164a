"""What the words of the trade are: small typed records. No computing, no files, no Qt.

Nothing here imports pydantic unless a sheet or a trail is opened, so that the window can
paint before it.
"""
