"""What is proved of a rule set: chains and loops for every URL there is."""
