"""Analysis of results beyond single figures."""
