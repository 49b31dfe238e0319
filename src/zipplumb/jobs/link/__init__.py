"""Between the instruments' agents and the database."""
