"""Tasks: one plain function a command, which a program could call too."""
