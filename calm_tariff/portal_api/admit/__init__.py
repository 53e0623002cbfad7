"""Signing up, browsing, applications and keys, requests; the token endpoint."""
