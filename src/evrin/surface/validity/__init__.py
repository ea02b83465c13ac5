"""The law that a surface keeps, and where one breaks it."""
