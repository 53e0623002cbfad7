"""What is sold: APIs, meters, products, plans, and the limits above them."""
