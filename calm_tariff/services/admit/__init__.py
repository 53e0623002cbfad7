"""Consumers, applications, credentials, requests, subscriptions and what they may see."""
