"""Pages of coordinate systems, a module for each road to one."""
