"""What the console's and the portal's APIs share: who asks, and how errors are told."""
