"""The door by which every file comes in and every result leaves."""
