"""Maps of how far a part lies off its CAD: what was found, how it is judged, and pins on it."""
