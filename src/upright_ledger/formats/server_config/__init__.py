"""Rules in the configuration files of servers."""
