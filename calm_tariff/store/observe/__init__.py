"""What consumers want to be told of."""
