"""Lines on their way into a surface: cut, joined, weeded, filled, given heights, moved aside."""
