"""The guide: how the jobs are done, in the users' words."""
