"""What the lines of logs are, whoever wrote them."""
