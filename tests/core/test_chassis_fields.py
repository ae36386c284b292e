"""Fields and charges of wires over a sheet, against closed forms."""

from math import asinh, log, pi, sqrt

import numpy as np
import pytest
from scipy.integrate import quad
from scipy.special import j0

from tests.core.layouts import linked
from thermionic.chassis.capacitances import EPSILON0, OPEN, Twist, capacitances, left_by_twist, walls
from thermionic.chassis.document import Box
from thermionic.chassis.fields import (
    MU0,
    Dipole,
    Filaments,
    Pieces,
    Sheet,
    flux_density,
    linkage,
    potential,
    through_dipole,
    twisted,
)
from thermionic.chassis.sheet import conductances

ALUMINIUM = Sheet(0.0015, 3.4e7)
STEEL = Sheet(0.001, 7e6, 150.0)
PERFECT = Sheet(1.0, 1e12)


def wire(*points):
    return Pieces.of([np.array(points, dtype=float)])


@pytest.mark.parametrize(("length", "apart"), [(0.1, 0.01), (0.3, 0.005), (0.05, 0.1)])
def test_parallel_wires_have_the_mutual_inductance_of_rosas_formula(length, apart):
    # E. B. Rosa, Bulletin of the Bureau of Standards 4 (1908), p. 301, eq. 2.
    ratio = length / apart
    expected = MU0 * length / (2 * pi) * (log(ratio + sqrt(1 + ratio**2)) - sqrt(1 + ratio**-2) + 1 / ratio)
    result = linked(wire((0, 0, -0.02), (length, 0, -0.02)), wire((0, apart, -0.02), (length, apart, -0.02)))
    assert result == pytest.approx(expected, rel=0.01)


def test_wires_that_cross_at_an_angle_go_by_its_cosine_and_square_ones_not_at_all():
    # G. A. Campbell, Physical Review 5 (1915), p. 452: filaments of length l from one point at an angle e,
    # M = mu0/4pi 2 cos e (2 l artanh(l / (l + R))) with R the distance of their far ends.
    length, angle = 0.2, 1.0
    end = (length * np.cos(angle), length * np.sin(angle))
    across = 2 * length * np.sin(angle / 2)
    expected = MU0 / (4 * pi) * 2 * np.cos(angle) * 2 * length * np.arctanh(length / (length + across))
    result = linked(wire((0, 0, -0.02), (length, 0, -0.02)), wire((0, 0, -0.02), (*end, -0.02)))
    assert result == pytest.approx(expected, rel=0.02)
    square = linked(wire((-0.1, 0, -0.01), (0.1, 0, -0.01)), wire((0, -0.1, -0.02), (0, 0.1, -0.02)), ALUMINIUM)
    assert abs(square) < 1e-4 * abs(expected)


def test_over_a_perfect_plane_long_wires_have_the_inductance_of_their_images():
    # mu0/4pi ln(1 + 4 h1 h2 / d²) a metre: C. R. Paul, Introduction to Electromagnetic Compatibility, 2nd ed. 2006,
    # eq. 9.20b, for two wires at one height apart by s: ln(1 + 4 h²/s²).
    long, height, apart = 4.0, 0.01, 0.02
    middle = wire((1.5, apart, -height), (2.5, apart, -height))
    result = linked(middle, wire((0, 0, -height), (long, 0, -height)), PERFECT)
    assert result == pytest.approx(MU0 / (4 * pi) * log(1 + 4 * height**2 / apart**2), rel=0.01)


@pytest.mark.parametrize("hertz", [50.0, 100.0, 600.0])
@pytest.mark.parametrize(("down", "aside"), [(0.02, 0.0), (0.04, 0.02), (0.04, 0.04)])
def test_what_a_thin_sheet_reflects_is_the_integral_over_all_waves(hertz, down, aside):
    k0 = 1j * pi * hertz * MU0 * 3.4e7 * 0.0015

    def share(k):
        return k0 / (k0 + k) * np.exp(-k * down) * j0(k * aside)

    most = 600 / down
    exact = sum(
        part * quad(lambda k, of=of: of(share(k)), 0, most, limit=2000)[0]
        for part, of in ((1, np.real), (1j, np.imag))
    )
    away = np.array([sqrt(down**2 + aside**2)])
    result = -ALUMINIUM.image(away, hertz)[0] / away[0]
    assert abs(result - exact) < 0.1 * abs(exact)
    # What does not come back goes through.
    assert ALUMINIUM.through(away, hertz)[0] == pytest.approx(1 + ALUMINIUM.image(away, hertz)[0])


def test_steel_gathers_where_aluminium_turns_back():
    near = np.array([0.03])
    assert STEEL.image(near, 50.0)[0].real > 0 > ALUMINIUM.image(near, 50.0)[0].real
    assert abs(STEEL.through(near, 50.0)[0]) < 0.6 * abs(ALUMINIUM.through(near, 50.0)[0])


def test_a_twisted_pair_leaves_what_a_helix_of_filaments_does():
    pitch, radius, turns, fine = 0.02, 0.0005, 40, 60
    along = np.linspace(0, turns * pitch, turns * fine + 1)
    angle = 2 * pi * along / pitch
    helix = np.stack([along, radius * np.cos(angle), radius * np.sin(angle) - 0.1], axis=1)
    other = np.stack([along, -radius * np.cos(angle), -radius * np.sin(angle) - 0.1], axis=1)

    def density(source, at):
        # Biot and Savart, by small steps.
        step, middle = np.diff(source, axis=0), (source[1:] + source[:-1]) / 2
        away = at - middle
        return (MU0 / (4 * pi) * np.cross(step, away) / np.linalg.norm(away, axis=1)[:, None] ** 3).sum(axis=0)

    for distance in (0.008, 0.012, 0.016):
        ring = [np.array([turns * pitch / 2 + x, distance, -0.1]) for x in np.linspace(0, pitch, 24, endpoint=False)]
        radial = [(density(helix, at) - density(other, at))[1] for at in ring]
        # A straight pair as far apart leaves mu0 I s / 2 pi d².
        straight = MU0 * 2 * radius / (2 * pi * distance**2)
        assert max(np.abs(radial)) / straight == pytest.approx(
            float(twisted(np.array([distance]), pitch)[0]), rel=0.05
        )


def test_the_linkage_of_a_pair_over_a_sheet_is_neumanns_integral_by_small_steps():
    victims = wire((0.0, 0.0, -0.005), (0.0, 0.0, -0.02), (0.1, 0.02, -0.02), (0.1, 0.1, -0.02))
    middle = wire((0.02, -0.03, -0.005), (0.02, -0.03, -0.025), (0.12, -0.03, -0.025))
    aside = middle.sideways * 0.0015
    pair = Filaments(middle, np.zeros(len(middle.wire), dtype=int), aside, np.zeros(len(middle.wire)))

    def fine(pieces):
        shares = (np.arange(40) + 0.5)[:, None, None] / 40
        return (pieces.start + shares * pieces.along).reshape(-1, 3), np.tile(pieces.along / 40, (40, 1))

    def neumann(source, sheet, hertz):
        (at, step), (there, along) = fine(victims), fine(source)
        mirror = np.array([1.0, 1.0, -1.0])
        near = np.linalg.norm(at[:, None] - there[None], axis=2)
        far = np.linalg.norm(at[:, None] - (there * mirror)[None], axis=2)
        whole = step @ along.T / near + sheet.image(far, hertz) * (step @ (along * mirror).T) / far
        return MU0 / (4 * pi) * whole.sum()

    for sheet in (ALUMINIUM, STEEL):
        result = linkage(victims, 1, pair, 1, sheet, np.array([50.0, 300.0]))[:, 0, 0]
        for hertz, one in zip((50.0, 300.0), result, strict=True):
            exact = neumann(middle.moved(aside), sheet, hertz) - neumann(middle.moved(-aside), sheet, hertz)
            assert one == pytest.approx(exact, rel=0.02)


def test_a_dipole_has_the_field_of_a_small_loop_and_its_potential_links_that():
    dipole = Dipole(np.array([0.0, 0.0, 0.05]), np.array([0.0, 0.0, 1.0]))
    # On its axis mu0 m / 2 pi r³; beside it half of that the other way round.
    assert flux_density(np.array([0.0, 0.0, 0.15]), dipole)[2] == pytest.approx(MU0 / (2 * pi * 0.1**3))
    assert flux_density(np.array([0.1, 0.0, 0.05]), dipole)[2] == pytest.approx(-MU0 / (4 * pi * 0.1**3))
    corners = [(0.05, -0.02), (0.09, -0.02), (0.09, 0.02), (0.05, 0.02), (0.05, -0.02)]
    cells = np.linspace(-0.02, 0.02, 41)[1:] - 0.0005
    for axis in (dipole.axis, np.array([1.0, 0.0, 0.0])):
        tilted = Dipole(dipole.at, axis)
        for sheet, height in ((None, -0.02), (PERFECT, 0.02)):  # with the sheet, on the dipole's own side of it
            loop = wire(*((x, y, height) for x, y in corners))
            linked = through_dipole(loop, tilted, sheet, np.array([50.0])).sum()
            at = [np.array([0.07 + x, y, height]) for x in cells for y in cells]
            flux = sum(flux_density(one, tilted, sheet)[2] for one in at) * 0.001**2
            assert linked.real == pytest.approx(flux.real, rel=0.02)


def test_over_a_perfect_plane_no_field_goes_through_and_none_stands_out_of_it():
    for axis in np.eye(3):
        dipole = Dipole(np.array([0.0, 0.0, 0.03]), axis)
        assert abs(potential(np.array([[0.05, 0.02, -0.03]]), dipole, PERFECT, np.array([50.0]))).max() < 2e-9
        at = flux_density(np.array([0.04, 0.01, 1e-7]), dipole, PERFECT)
        free = flux_density(np.array([0.04, 0.01, 1e-7]), dipole)
        assert abs(at[2]) < 0.02 * np.abs(free).max()


@pytest.mark.parametrize(("height", "apart"), [(0.02, 0.01), (0.005, 0.02)])
def test_wires_over_a_plane_have_the_capacitances_of_the_logarithms(height, apart):
    # C. R. Paul (above), eq. 9.23: the inverse of 1/2 pi e0 [ln(2h/r), ln(1 + 4h²/s²)/2].
    radius, long = 0.0004, 1.5
    pieces = Pieces.of([np.array([[0, y, -height], [long, y, -height]], dtype=float) for y in (0.0, apart)])
    result = capacitances(pieces, np.full(len(pieces.wire), radius), 2) / long
    own, between = log(2 * height / radius), 0.5 * log(1 + 4 * height**2 / apart**2)
    expected = 2 * pi * EPSILON0 * np.linalg.inv([[own, between], [between, own]])
    assert result == pytest.approx(expected, rel=0.05)


@pytest.mark.parametrize("side", [0, 1])
def test_in_the_corner_of_a_box_a_wire_has_the_capacitance_of_a_line_between_two_planes(side):
    # Images in both planes and in their corner: C = 2 pi e0 / ln(2 h1 2 h2 / (2 r sqrt(h1² + h2²))) a metre
    # (W. R. Smythe, Static and Dynamic Electricity, 3rd ed. 1968, sec. 4.03).
    radius, long, down, aside = 0.0004, 1.5, 0.012, 0.008
    planes = OPEN.copy()
    planes[1, side] = 0.3
    for far, at in ((1.0, 0.3 - aside), (-1.0, 0.3 + aside)):
        pieces = Pieces.of([np.array([[0, at, -down], [long, at, -down]])])
        result = capacitances(pieces, np.full(len(pieces.wire), radius), 1, planes)[0, 0] / long
        across = 2 * sqrt(down**2 + aside**2)
        assert result == pytest.approx(2 * pi * EPSILON0 / log(4 * down * aside / (radius * across)), rel=0.02), far


def test_a_wall_beside_two_wires_takes_much_of_what_couples_them():
    radius, long, down = 4e-4, 2.0, 0.03
    places = (0.0095, 0.0495)  # from the wall
    pieces = Pieces.of([np.array([[0.1, 5e-4 + y, -down], [0.1 + long, 5e-4 + y, -down]]) for y in places])
    beside = walls(Box(width=1.0, depth=0.2, height=0.05, sheet=0.001))
    assert beside == pytest.approx(np.array([[5e-4, 0.9995], [5e-4, 0.1995]]))
    beside[0] = np.inf

    def between(a, b, both):
        """The potential that a charge at ``a`` makes at ``b``, by its image in the sheet and those in the wall."""
        apart = a - b or radius
        free = log(sqrt((a - b) ** 2 + 4 * down**2) / abs(apart))
        return free - both * log(sqrt((a + b) ** 2 + 4 * down**2) / (a + b))

    for both, planes in ((0, OPEN), (1, beside)):
        matrix = np.array([[between(a, b, both) for a in places] for b in places])
        expected = 2 * pi * EPSILON0 * np.linalg.inv(matrix)
        result = capacitances(pieces, np.full(len(pieces.wire), radius), 2, planes) / long
        assert result == pytest.approx(expected, rel=0.05)


@pytest.mark.parametrize("share", [1.0, 0.2, 0.0])
def test_a_twist_brings_both_legs_of_a_pair_as_near_to_a_third_wire(share):
    # Potential coefficients a metre by logarithms, as above; the mean of the legs' and what the twist leaves of their
    # difference stand in the row of the third wire.
    radius, long, down, apart, aside = 4e-4, 2.0, 0.015, 0.003, 0.012
    places = (0.0, apart, apart + aside)
    pieces = Pieces.of([np.array([[0, y, -down], [long, y, -down]]) for y in places])
    count = len(pieces.wire) // 3
    mate = np.r_[np.arange(count) + count, np.arange(count), np.arange(count) + 2 * count]
    twist = Twist(mate, np.r_[np.full(2 * count, share), np.ones(count)])
    result = capacitances(pieces, np.full(len(pieces.wire), radius), 3, OPEN, twist) / long

    def raised(a, b):
        return log(sqrt((a - b) ** 2 + 4 * down**2) / (abs(a - b) or radius))

    matrix = np.array([[raised(a, b) for a in places] for b in places])
    mean, half = (matrix[0, 2] + matrix[1, 2]) / 2, share * (matrix[0, 2] - matrix[1, 2]) / 2
    matrix[0, 2] = matrix[2, 0] = mean + half
    matrix[1, 2] = matrix[2, 1] = mean - half
    assert result == pytest.approx(2 * pi * EPSILON0 * np.linalg.inv(matrix), rel=0.05)
    assert (abs(result[0, 2] / result[1, 2] - 1) < 1e-3) == (share == 0.0)


def test_what_a_twist_leaves_is_the_most_that_a_cosine_leaves():
    pitch = 0.015
    for length in (0.012, 0.02, 0.05):
        turns = 2 * pi * np.linspace(0, length / pitch, 2001)
        most = max(abs(np.cos(turns + phase).mean()) for phase in np.linspace(0, pi, 181))
        assert most <= left_by_twist(np.array([length]), np.array([pitch]))[0] * 1.001
    peak = left_by_twist(np.array([pitch / 2]), np.array([pitch]))[0]
    assert peak == pytest.approx(2 / pi)  # half a turn: the mean of half a cosine
    assert left_by_twist(np.array([0.05]), np.array([0.0]))[0] == 1.0


def test_wires_above_the_sheet_do_not_see_those_below():
    pieces = Pieces.of([np.array([[0, 0, z], [0.2, 0, z]]) for z in (0.01, -0.01)])
    result = capacitances(pieces, np.full(len(pieces.wire), 4e-4), 2)
    assert result[0, 1] == pytest.approx(0.0, abs=1e-18)
    assert result[0, 0] > 0


def test_crossed_wires_have_the_capacitance_of_two_charges_spread_along_them():
    # By hand: what two wires crossing at right angles, 6 mm apart high over a plane, share: the charge of one raises
    # the other. Maxwell's P matrix from the integral of 1/r along a wire seen from its own middle, asinh.
    half, gap, height, radius = 0.05, 0.006, 0.05, 4e-4
    cross = Pieces.of(
        [
            np.array([[-half, 0, -height], [half, 0, -height]]),
            np.array([[0, -half, gap - height], [0, half, gap - height]]),
        ],
        0.004,
    )
    result = capacitances(cross, np.full(len(cross.wire), radius), 2)
    # A collocation of its own, twice as fine and by the rule of midpoints.
    count = 120
    step = 2 * half / count
    places = (np.arange(count) + 0.5) * step - half
    one = np.stack([places, 0 * places, 0 * places - height], axis=1)
    other = np.stack([0 * places, places, 0 * places + gap - height], axis=1)
    at = np.concatenate([one, other])
    away = np.linalg.norm(at[:, None] - at[None], axis=2)
    mirror = np.linalg.norm(at[:, None] - (at * [1, 1, -1])[None], axis=2)
    np.fill_diagonal(away, 1.0)
    p = 1 / away - 1 / mirror
    np.fill_diagonal(p, 2 * asinh(step / 2 / radius) / step - 1 / np.diag(mirror))
    which = np.repeat(np.eye(2), count, axis=0)
    expected = which.T @ np.linalg.solve(p / (4 * pi * EPSILON0), which)
    assert result[0, 1] == pytest.approx(expected[0, 1], rel=0.05)
    assert result[0, 0] == pytest.approx(expected[0, 0], rel=0.05)


def test_the_sheet_between_two_bolts_has_the_resistance_of_two_round_electrodes():
    # W. R. Smythe, Static and Dynamic Electricity, 3rd ed. 1968, sec. 6.10: two circles of radius r apart by d on an
    # endless sheet, R = rho/(pi t) arcosh(d/2r). The nearest edge is five distances away.
    # The sheet is fifteen times as large; the bolts stand in the middles of cells of 13 mm.
    radius, size = 0.004, 0.8
    cell = size / 60
    apart = 4 * cell
    bolts = [(27.5 * cell, 30.5 * cell), (27.5 * cell + apart, 30.5 * cell)]
    square = 1 / (3.4e7 * 0.002)
    between = conductances(size, size, square, tuple(bolts), radius)
    assert -1 / between[0, 1] == pytest.approx(square / pi * np.arccosh(apart / 2 / radius), rel=0.02)
    assert between.sum() == pytest.approx(0, abs=1e-6 * between.max())


def test_a_long_strip_has_its_length_over_its_width():
    # Far from its ends current is even across: each centimetre more adds its own resistance.
    square, wide = 2e-5, 0.02
    ohm = []
    for far in (0.2, 0.3):
        between = conductances(0.4, wide, square, ((0.05, 0.01), (0.05 + far, 0.01)), 0.002, 200)
        ohm.append(-1 / between[0, 1])
    assert ohm[1] - ohm[0] == pytest.approx(square * 0.1 / wide, rel=0.02)
