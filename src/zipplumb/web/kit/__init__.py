"""Pages of instruments, probes and their trials."""
