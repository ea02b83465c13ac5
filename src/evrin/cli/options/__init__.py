"""Options of commands."""
