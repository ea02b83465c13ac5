"""Work handed to workers, and the folder where results are kept."""
