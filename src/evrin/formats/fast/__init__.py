"""Quick readers of what is plainly written; each gives up where it is not."""
