"""Usage that is handed on hourly to whoever bills outside."""
