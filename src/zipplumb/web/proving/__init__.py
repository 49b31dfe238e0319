"""The page that says where to stand."""
