"""Periodic work: shipping the journal, sending mail, telling gateways of terms that begin."""
