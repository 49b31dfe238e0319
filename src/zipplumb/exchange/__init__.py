"""Files in and out. Nothing here calculates: it is given finished rows."""
