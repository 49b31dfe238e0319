"""The pieces of a job: another is begun, and all are looked at together."""
