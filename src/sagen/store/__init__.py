"""The job log: jobs and their trails in a database, captures as plain arrays beside it."""
