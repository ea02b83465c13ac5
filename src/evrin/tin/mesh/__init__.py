"""The working mesh: forced edges, flips, edits, limits."""
