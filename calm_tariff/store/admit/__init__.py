"""Who calls: consumers, applications, credentials, requests and subscriptions."""
