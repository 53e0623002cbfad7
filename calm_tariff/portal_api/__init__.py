"""The portal's API, /portal/api/v1: a consumer sees its own things and nobody else's."""
