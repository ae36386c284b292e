"""Supplies at their worst moments: mains low and high, tubes cold or pulled, the first seconds, and switched off."""
