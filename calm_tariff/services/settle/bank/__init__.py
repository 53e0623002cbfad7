"""What the bank says: statements brought in, and their entries matched to what is open."""
