"""A build in progress: its steps, its log, and what becomes of every row."""
