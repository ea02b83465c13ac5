"""The recipe as text: its statements, changes that keep every other byte, its faults, a first draft."""
