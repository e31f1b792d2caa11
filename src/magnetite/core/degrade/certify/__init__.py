"""What certificates measure of degradations."""
