"""What developers say of products: questions, answers, ratings, and what is done about them."""
