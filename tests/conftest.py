"""What all tests share."""
