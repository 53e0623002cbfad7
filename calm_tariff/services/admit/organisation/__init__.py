"""An organisation of consumers: who belongs to it, as what, and how one comes and goes."""
