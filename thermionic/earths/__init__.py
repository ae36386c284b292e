"""Earths: which wire carries whose return current, what that does, what goes wrong, and protective earth."""
