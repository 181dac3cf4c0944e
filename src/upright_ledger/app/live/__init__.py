"""After the launch: what fails, what is handed over, what nobody uses."""
