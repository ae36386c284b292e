"""The web process: how connections are taken, limited and timed out before a request reaches the application."""
