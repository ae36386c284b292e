"""Magnetic fields of wires and transformers beside a chassis sheet, and the EMF that they leave in other wires.

A wire is a polyline; currents and moments are phasors. Coordinates are metres with the sheet at z = 0, thin and taken
to be infinite. What the sheet does is that of a layer of surface resistance 1/(conductivity x thickness) and of
permeability x thickness: for a wavenumber k along it, the vector potential of currents along the sheet is reflected
by

    -k0 / (k0 + k) + k m / (1 + k m)        with k0 = j omega mu0 sigma t / 2,  m = mu_r t / 2

and what goes through is 1/(1 + k0/k) x 1/(1 + k m): Maxwell's receding images (A Treatise on Electricity and
Magnetism, 3rd ed. 1891, vol. 2, art. 654 to 669; in the frequency domain P. Tegopoulos and E. Kriezis, Eddy Currents
in Linear Conducting Media, 1985, ch. 4). Over all wavenumbers the reflection of a source at a distance D straight
below is g(k0 D)/D with g(u) = u exp(u) E1(u); beside that line we take the distance to the image for D, which is
within a tenth of the integral up to 45 degrees.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.special import exp1, k0, k1

from thermionic.chassis import kernels
from thermionic.compiled import bundle
from thermionic.devices.base import Array, ComplexArray

MU0 = 4e-7 * np.pi
_POINTS, _WEIGHTS = np.polynomial.legendre.leggauss(3)
NEAREST = 1.0e-3  # m, between the middles of two wires that touch, insulation and all
_LONGEST = 0.02  # m, of a piece over which a field is taken at three points
_DECADES = np.linspace(-6, 4, 801)


@dataclass(frozen=True)
class Sheet:
    """A sheet: thickness, m, conductivity, S/m, relative permeability at low fields."""

    thickness: float
    conductivity: float
    permeability: float = 1.0

    def wavenumber(self, hertz: float) -> float:
        """|k0|, 1/m: where its eddy currents begin to turn a field back."""
        return float(np.pi * hertz * MU0 * self.conductivity * self.thickness)

    @property
    def reach(self) -> float:
        """m, m: over which its permeability gathers a field; nothing without."""
        return (self.permeability - 1.0) * self.thickness / 2

    def image(self, distance: Array, hertz: float) -> ComplexArray:
        """The share of a full image with the current's own direction, at the distance to the image, m."""
        eddy = receding(self.wavenumber(hertz) * distance)
        gathered = 1.0 - _steady(distance / self.reach) if self.reach > 0 else 0.0
        result: ComplexArray = gathered - eddy
        return result

    def through(self, distance: Array, hertz: float) -> ComplexArray:
        """What is left of a field behind the sheet, at the distance from its source, m."""
        eddy = receding(self.wavenumber(hertz) * distance)
        gathered = _steady(distance / self.reach) if self.reach > 0 else 1.0
        result: ComplexArray = (1.0 - eddy) * gathered
        return result


def _scaled(u: ComplexArray) -> ComplexArray:
    """u exp(u) E1(u), by its own series where E1 is too small to be held."""
    large = np.abs(u) > 50
    safe = np.where(large, 1.0, u)
    inverse = 1.0 / np.where(large, u, 50.0)
    result: ComplexArray = np.where(
        large, 1 - inverse + 2 * inverse**2 - 6 * inverse**3, safe * np.exp(safe) * exp1(safe)
    )
    return result


# Both have one argument, so they are tables, over its logarithm.
_EDDY = _scaled((1j * 10.0**_DECADES).astype(np.complex128))
_GATHERED = _scaled((10.0**_DECADES).astype(np.complex128))


def receding(s: Array) -> ComplexArray:
    """g(j s): the share of an image that eddy currents make, for s = |k0| x distance."""
    return _looked_up(s, _EDDY)


def _steady(u: Array) -> Array:
    """g(u) for a real u."""
    return _looked_up(u, _GATHERED).real


def _looked_up(value: Array, table: ComplexArray) -> ComplexArray:
    """A table over the logarithm, straight between its places."""
    place = np.log10(np.maximum(value, 1e-6)) - _DECADES[0]
    place = np.clip(place / (_DECADES[1] - _DECADES[0]), 0, len(table) - 1.000001)
    low = place.astype(int)
    result: ComplexArray = table[low] + (place - low) * (table[low + 1] - table[low])
    return result


@dataclass(frozen=True, eq=False)
class Pieces:
    """Wires cut into straight pieces: ``start`` and ``end`` (pieces, 3), m, and the number of each one's wire."""

    start: Array
    end: Array
    wire: np.ndarray

    @classmethod
    def of(cls, wires: list[Array], longest: float = _LONGEST) -> Pieces:
        """Polylines, each (points, 3), with no piece longer than ``longest``."""
        starts, ends, owner = [np.zeros((0, 3))], [np.zeros((0, 3))], [np.zeros(0, dtype=int)]
        for number, points in enumerate(wires):
            along = np.diff(points, axis=0)
            length = np.sqrt((along**2).sum(axis=1))
            counts = np.maximum(np.ceil(length / longest).astype(int), 1)
            counts[length < 1e-9] = 0
            place = np.repeat(np.arange(len(along)), counts)
            first = np.cumsum(counts) - counts
            share = (np.arange(len(place)) - first[place]) / counts[place]
            step = along[place] / counts[place, None]
            begin = points[:-1][place] + share[:, None] * along[place]
            starts.append(begin)
            ends.append(begin + step)
            owner.append(np.full(len(place), number))
        return cls(np.concatenate(starts), np.concatenate(ends), np.concatenate(owner))

    def moved(self, by: Array) -> Pieces:
        """The same, each moved by a vector (pieces, 3), m."""
        return Pieces(self.start + by, self.end + by, self.wire)

    @property
    def sideways(self) -> Array:
        """A level unit vector across each piece, (pieces, 3); along x for one that stands upright."""
        across = np.cross(self.along, [0.0, 0.0, 1.0])
        size = np.sqrt((across**2).sum(axis=1))[:, None]
        result: Array = np.where(size > 1e-9, across / np.maximum(size, 1e-9), [1.0, 0.0, 0.0])
        return result

    @property
    def middle(self) -> Array:
        """Each piece's middle, (pieces, 3)."""
        return (self.start + self.end) / 2

    @property
    def along(self) -> Array:
        """Each piece's vector, (pieces, 3)."""
        return self.end - self.start

    @property
    def length(self) -> Array:
        """Each piece's length, m, (pieces,)."""
        result: Array = np.sqrt((self.along**2).sum(axis=1))
        return result

    def near_ends(self, reach: float) -> np.ndarray:
        """Which pieces have their middle nearer than ``reach``, m, to an end of their wire, (pieces,); the pieces of
        a wire follow each other."""
        length = self.length
        whole = np.bincount(self.wire, length)
        halfway = np.cumsum(length) - length / 2 - (np.cumsum(whole) - whole)[self.wire]
        near: np.ndarray = (halfway < reach) | (halfway > whole[self.wire] - reach)
        return near

    def add_up(self, values: ComplexArray, wires: int) -> ComplexArray:
        """Sums over each wire's pieces: (..., pieces) to (..., wires)."""
        which = np.zeros((len(self.wire), wires))
        which[np.arange(len(self.wire)), self.wire] = 1.0
        result: ComplexArray = values @ which
        return result


@dataclass(frozen=True, eq=False)
class Filaments:
    """Sources of a field: pieces that carry a current, each in a group; where ``aside`` (pieces, 3), m, is not
    nothing, pairs that carry it there and back to either side of the piece, twisted with ``pitch`` (pieces,), m."""

    pieces: Pieces
    group: np.ndarray
    aside: Array
    pitch: Array


def linkage(
    victims: Pieces, wires: int, sources: Filaments, groups: int, sheet: Sheet, hertz: Array, floor: float = 0.0
) -> ComplexArray:
    """The flux linkage of each wire for one ampere in each group of sources, all on one side of the sheet, H:
    (frequencies, groups, wires). Of a twisted pair at least ``floor`` of an untwisted one's field is left."""
    pieces = sources.pieces
    linked: ComplexArray = kernels.linkages(
        bundle(kernels.Victims, victims.start, victims.end, victims.wire), wires,
        bundle(kernels.Sources, pieces.start, pieces.end, sources.aside, sources.pitch, sources.group), groups,
        kernels.Plate(np.array([sheet.wavenumber(each) for each in hertz]), float(sheet.reach)),
        kernels.Tables(_EDDY, _GATHERED, _TWIST, _DECADES[0], _DECADES[1] - _DECADES[0], float(floor)), NEAREST,
    )  # fmt: skip
    return MU0 / (4 * np.pi) * linked


@dataclass(frozen=True, eq=False)
class Dipole:
    """A magnetic dipole: where it is, m, and the direction of its moment (a unit vector)."""

    at: Array
    axis: Array


def potential(points: Array, dipole: Dipole, sheet: Sheet | None, hertz: Array) -> ComplexArray:
    """The vector potential of 1 A m² at points (points, 3), Wb/m, (frequencies, points, 3): mu0/4pi m x r/r³, and the
    sheet's image of it."""
    hertz = np.atleast_1d(hertz)
    result = np.broadcast_to(_free(points, dipole.at, dipole.axis), (len(hertz), *points.shape)).astype(complex)
    if sheet is None:
        return result
    image = dipole.at * [1, 1, -1]
    side = points[:, 2] * dipole.at[2] >= 0
    # A dipole's field is made of shorter waves than a wire's: of twice the wavenumber.
    near = np.sqrt(((points - dipole.at) ** 2).sum(axis=1)) / 2
    far = np.sqrt(((points - image) ** 2).sum(axis=1)) / 2
    mirrored = _free(points, image, dipole.axis * [-1, -1, 1])
    for row, one in enumerate(hertz):
        if not side.all():
            result[row] *= np.where(side, 1.0, sheet.through(near, one))[:, None]
        if side.any():
            result[row] += np.where(side, sheet.image(far, one), 0.0)[:, None] * mirrored
    return result


def _free(points: Array, at: Array, axis: Array) -> Array:
    away = points - at
    distance = np.maximum(np.sqrt((away**2).sum(axis=1)), 5e-3)[:, None]
    result: Array = MU0 / (4 * np.pi) * np.cross(axis, away) / distance**3
    return result


def flux_density(point: Array, dipole: Dipole, sheet: Sheet | None = None, hertz: float = 50.0) -> ComplexArray:
    """The field of 1 A m² at a point, T, (3,): mu0/4pi (3 r (m.r)/r^5 - m/r^3), with the sheet's image."""
    result: ComplexArray = _field(point, dipole.at, dipole.axis).astype(np.complex128)
    if sheet is None:
        return result
    image = dipole.at * [1, 1, -1]
    if point[2] * dipole.at[2] < 0:
        distance = np.array([np.linalg.norm(point - dipole.at) / 2])
        result *= sheet.through(distance, hertz)[0]
        return result
    distance = np.array([np.linalg.norm(point - image) / 2])
    mirrored = _field(point, image, dipole.axis * np.array([-1.0, -1.0, 1.0]))
    result += sheet.image(distance, hertz)[0] * mirrored
    return result


def _field(point: Array, at: Array, axis: Array) -> Array:
    away = point - at
    distance = max(float(np.linalg.norm(away)), 5e-3)
    result: Array = MU0 / (4 * np.pi) * (3 * away * float(axis @ away) / distance**5 - axis / distance**3)
    return result


def through_dipole(victims: Pieces, dipole: Dipole, sheet: Sheet | None, hertz: Array) -> ComplexArray:
    """The flux linkage of each piece by 1 A m², Wb, (frequencies, pieces): the vector potential along it."""
    middle, along = victims.middle, victims.along
    points = np.concatenate([middle + along * point / 2 for point in _POINTS])
    at = (potential(points, dipole, sheet, hertz) * np.tile(along, (len(_POINTS), 1))).sum(axis=2)
    result: ComplexArray = np.einsum("fgp,g->fp", at.reshape(len(at), len(_POINTS), len(middle)), _WEIGHTS / 2)
    return result


def twisted(distance: Array, pitch: float) -> Array:
    """What is left of an untwisted pair's field at a distance from a pair twisted with ``pitch``, m, as a share.

    The first harmonic of a bifilar helix's field over that of a straight pair: x² (K0(x) + K1(x)/x) for x = 2 pi
    distance/pitch, of its radial part (J. R. Moser and R. F. Spencer, Predicting the Magnetic Fields from a
    Twisted-Pair Cable, IEEE Trans. EMC-10, 1968, p. 324, for pairs much finer than the pitch).
    """
    x = np.clip(2 * np.pi * distance / pitch, 1e-6, 600.0)
    result: Array = np.minimum(x**2 * (k0(x) + k1(x) / x), 1.0)
    return result


# Over the logarithm of distance over pitch.
_TWIST = twisted(10.0**_DECADES, 1.0).astype(complex)
