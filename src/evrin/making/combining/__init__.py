"""One surface out of several, and surfaces cut along rings."""
