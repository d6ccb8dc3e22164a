"""The job log: what is kept of jobs, in SQLite or PostgreSQL, and the files that belong to it."""
