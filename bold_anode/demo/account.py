"""The demo account, shown on the sign-in page in demo mode."""

DEMO_USER = "saltmarsh"
DEMO_PASSWORD = "lantern-on-the-bench"
