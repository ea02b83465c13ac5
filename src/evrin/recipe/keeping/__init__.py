"""Results of a build kept for the next: digests of what they depend on, plain values on disk, signed entries."""
