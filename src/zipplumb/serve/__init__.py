"""Running it for real: the web server, the supervisor of the processes, and the settings taken from the environment."""
