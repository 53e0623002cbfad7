"""The end of a call that a reverse proxy forwards."""
