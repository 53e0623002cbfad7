"""The provider, its people, their sessions and the tokens of scripts."""
