"""The command line: thin over the library."""
