"""What a gateway knows, compiled for deciding."""
