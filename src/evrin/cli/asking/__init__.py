"""Commands that ask something of a surface, and show it."""
