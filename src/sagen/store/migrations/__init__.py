"""Alembic migrations of the job log."""
