"""What every room uses: errors, words, tolerances, progress, files, locks."""
