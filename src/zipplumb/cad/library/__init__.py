"""All that knows the CAD library (OCCT). Only child processes import this."""
