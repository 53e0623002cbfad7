"""What every router of the portal asks first."""
