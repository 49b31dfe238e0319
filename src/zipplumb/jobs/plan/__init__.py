"""Planning: parts, rows, forms, lists, sections, tolerances on the model, and what is made of features."""
