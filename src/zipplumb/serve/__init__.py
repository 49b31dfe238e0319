"""Running it for real: the web server, the supervisor of the processes, and what they are told by the environment."""
