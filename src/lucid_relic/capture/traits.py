"""How the virtual head behaves."""

from dataclasses import dataclass

from lucid_relic.types.instrument import Gate


@dataclass(frozen=True, kw_only=True)
class ScannerTraits:
    """Distances in mm, angles in degrees.

    dark_albedo and bright_albedo bound the light that a pixel can answer with at exposure 1; baseline_mm is the
    distance of the projector, whose shadow is not measured (0: none is cast); lamp the colour of the lamps (linear RGB);
    scale_error makes all distances too long by that share.
    """

    width: int = 640
    height: int = 480
    focal_px: float = 864.0
    standoff_mm: float = 360.0
    band_mm: Gate = (220.0, 900.0)
    depth_unit_mm: float = 0.01
    noise_mm: float = 0.05
    grazing_deg: float = 78.0
    dark_albedo: float = 0.02
    bright_albedo: float = float("inf")
    baseline_mm: float = 0.0
    torn_share: float = 0.35
    axis_error_mm: float = 0.3
    axis_error_deg: float = 0.3
    stop_jitter_deg: float = 0.0
    exposure: float = 1.0
    infrared: bool = False
    gate_mm: Gate | None = None
    lamp: tuple[float, float, float] = (1.0, 1.0, 1.0)
    scale_error: float = 0.0
    name: str = "virtual turntable head"
