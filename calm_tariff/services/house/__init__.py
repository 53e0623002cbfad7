"""The provider, its people and their sessions, service tokens."""
