"""What every router of the console asks first."""
