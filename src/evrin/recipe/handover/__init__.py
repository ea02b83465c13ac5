"""What is handed over of a build: a comparison with another, a frozen surface."""
