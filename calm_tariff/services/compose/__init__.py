"""APIs, meters, products, plans, and the sheets they stand on."""
