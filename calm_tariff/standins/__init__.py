"""The outside world, simulated: a back end that computes tides, and a mail server one can read."""
