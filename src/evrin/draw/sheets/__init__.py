"""Sheets: one file for each subject."""
