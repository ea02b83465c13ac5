"""What lies along a line: profiles, sections, points to set out."""
