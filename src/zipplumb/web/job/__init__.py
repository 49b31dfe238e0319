"""The shell of a job's page, and the slip of one row."""
