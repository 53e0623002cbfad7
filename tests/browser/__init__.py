"""The whole product in a browser: what is started for these tests ends with them."""
