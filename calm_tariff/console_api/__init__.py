"""The console's API, /api/v1."""
