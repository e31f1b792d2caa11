"""Windows, moments and loops that metrics share."""
