"""Results of a build kept for the next: digests, plain values on disk, signed entries."""
