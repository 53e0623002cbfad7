"""Who may come in: passwords, second factors, passkeys, outside providers, and the sessions that begin with them."""
