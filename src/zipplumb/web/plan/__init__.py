"""Pages that plan rows: the part, forms, lists, sections, many at once, and what is made of features."""
