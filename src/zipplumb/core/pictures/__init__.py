"""A part drawn as it is seen from somewhere, with tags that say what was found where."""
