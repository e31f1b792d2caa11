"""Edges and loops that gauges share."""
