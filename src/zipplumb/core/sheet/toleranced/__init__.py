"""The bases of the kinds that judge features against tolerances."""
