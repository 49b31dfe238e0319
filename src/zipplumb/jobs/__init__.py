"""What a person can do: a module per stage of the work, a transaction per act."""
