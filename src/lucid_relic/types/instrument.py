"""What is known of an instrument from its sheet, and how one shot and one path are set."""

from dataclasses import dataclass, replace
from typing import Literal

from lucid_relic.errors import ParameterError
from lucid_relic.types.camera import Camera

Kind = Literal["table", "two_axis", "hand", "line"]
Gate = tuple[float, float]  # nearest and farthest depth (mm) that is kept


@dataclass(frozen=True, kw_only=True)
class Instrument:
    """A head, and the table it stands over if it has one.

    noise_mm is that of one pixel at standoff_mm; answers the darkest and brightest reflectance (0-1) that is measured
    at the nominal exposure; exposure_ms the shortest, nominal and longest; baseline_mm the distance of the
    projector from the camera; grazing_deg the slant beyond which nothing is measured; stop_s what the table needs from
    stop to stop; tilt_deg how far its second axis goes; largest_mm the largest object it is made for.
    """

    name: str
    title: str
    kind: Kind
    camera: Camera
    standoff_mm: float
    band_mm: Gate
    noise_mm: float
    depth_unit_mm: float
    baseline_mm: float
    grazing_deg: float
    answers: tuple[float, float]
    exposure_ms: tuple[float, float, float]
    infrared: bool
    frames_per_s: float
    stop_s: float
    elevation_deg: float
    tilt_deg: tuple[float, float]
    largest_mm: float

    @property
    def spacing_mm(self) -> float:
        """Distance of neighbouring pixels on a surface at the standoff."""
        return self.spacing_at(self.standoff_mm)

    def spacing_at(self, distance_mm: float) -> float:
        """Distance (mm) of neighbouring pixels on a surface that far away and faced squarely."""
        return distance_mm / self.camera.fx

    @property
    def field_mm(self) -> tuple[float, float]:
        """Width and height (mm) of what is in view at the standoff."""
        return self.camera.width * self.spacing_mm, self.camera.height * self.standoff_mm / self.camera.fy

    def distance_for(self, reach_mm: float) -> float:
        """How far (mm) the head stands from the middle of an object that reaches that far from it."""
        c = self.camera
        fitting = 1.12 * reach_mm * max(c.fx / (min(c.width, c.height) / 2), 1.0)
        return max(fitting, self.standoff_mm, self.band_mm[0] + reach_mm)


@dataclass(frozen=True, kw_only=True)
class Shutter:
    """How a shot is taken: exposures (ms, several are merged), gain (dB), infrared light, and the range that is kept."""

    exposure_ms: tuple[float, ...] = ()
    gain_db: float = 0.0
    infrared: bool = False
    gate_mm: Gate | None = None

    def check(self, instrument: Instrument) -> "Shutter":
        """The shutter with the nominal exposure where none is said; raises `ParameterError` for what cannot be."""
        low, nominal, high = instrument.exposure_ms
        for ms in self.exposure_ms:
            if not low <= ms <= high:
                raise ParameterError(f"The exposure must lie between {low:g} and {high:g} ms, not {ms:g} ms.")
        if not 0 <= self.gain_db <= MOST_GAIN_DB:
            raise ParameterError(f"The gain must lie between 0 and {MOST_GAIN_DB:g} dB, not {self.gain_db:g} dB.")
        if self.infrared and not instrument.infrared:
            raise ParameterError(f"The {instrument.title.lower()} has no infrared light.")
        if self.gate_mm is not None and not 0 <= self.gate_mm[0] < self.gate_mm[1]:
            near, far = self.gate_mm
            raise ParameterError(
                f"The range gate is inside out: its near side, {near:g} mm, must come before {far:g} mm."
            )
        return self if self.exposure_ms else replace(self, exposure_ms=(nominal,))

    def relative(self, instrument: Instrument, exposure_ms: float) -> float:
        """How many times the light of the nominal exposure an exposure collects, gain included."""
        return exposure_ms / instrument.exposure_ms[1] * 10 ** (self.gain_db / 20)


MOST_GAIN_DB = 24.0


@dataclass(frozen=True, kw_only=True)
class Stop:
    """Where a table stands for one frame: how far its plate is turned, and tilted towards the head (degrees)."""

    turn_deg: float
    tilt_deg: float = 0.0
