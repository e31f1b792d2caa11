"""Made-up pictures: the core trays and the chart plate of the Brindle Hollow core shed."""
