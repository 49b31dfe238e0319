"""Taking hits: keeping, finishing, undoing, just touching, and what is asked next."""
