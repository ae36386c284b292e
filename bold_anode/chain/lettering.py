"""How wide a text of the drawing is, by the advance widths of the fonts that the application ships."""

from __future__ import annotations

_CHARACTERS = "".join(map(chr, range(32, 127))) + "µΩ°–×…"
# Thousandths of the font's size, of Atkinson Hyperlegible Next.
# fmt: off
_REGULAR = (
    280, 286, 301, 651, 592, 919, 731, 160, 299, 299, 485, 606, 210, 362, 210, 387, 648, 407, 548, 576, 614, 588, 598,
    510, 615, 595, 210, 210, 553, 628, 553, 480, 778, 626, 613, 645, 669, 569, 552, 694, 694, 392, 512, 631, 541, 824,
    693, 714, 592, 724, 614, 592, 558, 690, 593, 856, 623, 575, 607, 317, 387, 344, 552, 372, 243, 525, 566, 485, 564,
    538, 314, 558, 550, 252, 245, 492, 262, 845, 550, 548, 566, 574, 349, 471, 326, 540, 461, 684, 481, 449, 460, 344,
    237, 344, 555, 636, 764, 352, 504, 532, 670,
)
_BOLD = (
    312, 303, 390, 765, 610, 969, 725, 210, 335, 335, 485, 595, 271, 373, 272, 440, 659, 440, 579, 600, 624, 607, 626,
    537, 624, 571, 272, 272, 569, 612, 569, 547, 781, 678, 643, 658, 688, 597, 566, 718, 701, 424, 561, 663, 552, 858,
    717, 746, 629, 756, 650, 610, 607, 686, 644, 886, 685, 650, 618, 340, 440, 344, 582, 400, 288, 552, 596, 510, 596,
    563, 365, 593, 571, 300, 259, 555, 318, 882, 571, 576, 596, 599, 376, 508, 376, 567, 530, 740, 539, 521, 505, 381,
    254, 381, 537, 736, 850, 394, 501, 536, 780,
)
# fmt: on
_WIDTHS = {False: dict(zip(_CHARACTERS, _REGULAR, strict=True)), True: dict(zip(_CHARACTERS, _BOLD, strict=True))}
# The pixels and the weight that the stylesheet gives each kind of text on the drawing.
_LETTERING = {
    "designator": (13.0, False),
    "value": (14.5, True),
    "heat": (12.5, False),
    "ht": (14.5, True),
    "signal": (14.5, True),
    "bias": (14.5, False),
    "ripple": (13.0, False),
    "reference": (13.0, False),
    "lead": (13.0, False),
}


def width(text: str, kind: str) -> float:
    """How wide a text of that kind is, px; a character that the table lacks is as wide as an m."""
    size, bold = _LETTERING[kind]
    widths = _WIDTHS[bold]
    return size * sum(widths.get(one, 880) for one in text) / 1000
