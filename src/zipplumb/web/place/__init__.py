"""Pages of placing, and the fitter's page."""
