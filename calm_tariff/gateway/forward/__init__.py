"""The end of a call that the gateway forwards."""
