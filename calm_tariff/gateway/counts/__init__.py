"""Where counts live, and what keeps them true."""
