"""Pages and tables, made from values: each is imported by its own name, where it is needed."""
