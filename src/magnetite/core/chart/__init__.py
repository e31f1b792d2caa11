"""The test chart: its design, its drawing, and a camera measured from a picture of it."""
