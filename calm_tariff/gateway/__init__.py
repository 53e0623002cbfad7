"""The data plane: it decides on every call, forwards or refuses it, and records it."""
