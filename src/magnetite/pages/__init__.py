"""The report of a run, or of pictures, as one page that opens anywhere."""
