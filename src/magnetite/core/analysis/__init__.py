"""What can be said of results beyond single figures."""
