"""From a call to a verdict, step by step."""
