"""The innermost loops of the analyses, compiled."""
