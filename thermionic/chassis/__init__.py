"""Where everything of an amplifier goes: bodies on a box, wires between them, and what that hums, weighs and warms.

``bodies`` of a solved design are placed by a ``document.Layout``; ``humming.lay`` wires them and computes the hum by
cause; beside it are fit, warmth, weight, the wire list and the holes to drill.
"""
