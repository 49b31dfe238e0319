"""What was found of each piece of a job, kept, and looked at together."""
