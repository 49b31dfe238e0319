"""What would prove a row: ways foretold by the uncertainties that are there, and plans that are enough from the beginning."""
