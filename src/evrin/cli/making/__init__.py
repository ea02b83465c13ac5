"""Commands that make a recipe or a surface."""
