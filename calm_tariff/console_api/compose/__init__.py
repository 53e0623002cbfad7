"""APIs, meters, products and their sheets."""
