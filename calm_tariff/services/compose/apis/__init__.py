"""API versions: where they answer, their documents and operations, and how long they live."""
