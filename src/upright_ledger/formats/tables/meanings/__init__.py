"""What cells mean: addresses, days and figures, as people of many countries write them."""
