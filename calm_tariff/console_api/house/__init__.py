"""Who is signed in, service tokens, the record."""
