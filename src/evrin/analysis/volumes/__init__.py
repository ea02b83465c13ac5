"""How much lies between surfaces, below levels, in heaps."""
