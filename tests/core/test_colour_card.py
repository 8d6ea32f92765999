"""The colour card: published values against colour-science, and what a tinted lamp and a mixing sensor did taken back."""

import warnings

import numpy as np
import pytest

from lucid_relic.calibration.colour_card import (
    CHART_LAB_D50,
    GREY,
    balance_of_grey,
    card_picture,
    card_size_mm,
    chart_linear,
    check_card,
    read_card,
)
from lucid_relic.capture.board_view import view_of_flat
from lucid_relic.errors import StepNotPossible
from lucid_relic.geometry.rigid import from_rotvec
from lucid_relic.light.difference import delta_e_2000
from lucid_relic.types import Camera

CAMERA = Camera.centred(640, 480, 800.0)
SENSOR = np.array([[0.82, 0.14, 0.04], [0.10, 0.78, 0.12], [0.03, 0.15, 0.82]])  # how a sensor mixes the primaries
TUNGSTEN = np.array([1.0, 0.72, 0.42])


@pytest.fixture(scope="module")
def science():
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        import colour
    return colour


def test_the_charts_values_are_those_that_are_published(science) -> None:
    """colour-science 0.4.7, data set for charts made since November 2014, converted by its own functions."""
    chart = science.CCS_COLOURCHECKERS["ColorChecker24 - After November 2014"]
    xyz = np.stack([science.xyY_to_XYZ(v) for v in chart.data.values()])
    assert science.XYZ_to_Lab(xyz, chart.illuminant) == pytest.approx(CHART_LAB_D50, abs=0.02)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        theirs = science.XYZ_to_sRGB(
            xyz, chart.illuminant, chromatic_adaptation_transform="Bradford", apply_cctf_encoding=False
        )
    assert chart_linear() == pytest.approx(theirs, abs=3e-3)
    assert delta_e_2000(CHART_LAB_D50[:12], CHART_LAB_D50[12:]) == pytest.approx(
        science.delta_E(CHART_LAB_D50[:12], CHART_LAB_D50[12:], method="CIE 2000"), abs=1e-6
    )


def photograph(light: np.ndarray, exposure: float = 0.9, tilt: float = 0.1, seed: int = 0) -> np.ndarray:
    w, h = card_size_mm()
    pose = from_rotvec(np.array([tilt, -tilt, 0.05]), np.zeros(3))
    pose[:3, 3] = np.array([0, 0, 260.0]) - pose[:3, :3] @ [w / 2, h / 2, 0]
    picture = np.clip(card_picture(6.0) @ SENSOR.T, 0, None) * light * exposure
    return view_of_flat(picture, 6.0, CAMERA, pose, np.random.default_rng(seed), noise=0.002)


@pytest.mark.parametrize("light", [np.ones(3), TUNGSTEN, np.array([0.6, 0.8, 1.0])])
def test_a_tinted_lamp_and_a_mixing_sensor_are_taken_back_to_within_two(light: np.ndarray) -> None:
    found = check_card(read_card(photograph(light)))
    assert found.ok and found.after.mean() <= 2.0 and found.before.mean() > 2 * found.after.mean()
    assert found.after.max() < 5.0
    assert np.abs(found.matrix @ np.diag(light * 0.9) @ SENSOR - np.eye(3)).max() < 0.08


def test_grey_alone_gives_balance_and_exposure() -> None:
    grey = chart_linear()[GREY]
    gains, exposure = balance_of_grey(grey * TUNGSTEN * 0.5, float(grey.mean()))
    assert gains == pytest.approx(TUNGSTEN[1] / TUNGSTEN * (grey[1] / grey), rel=1e-6)
    assert exposure == pytest.approx(1 / (0.5 * (TUNGSTEN @ [0.2126, 0.7152, 0.0722])), rel=0.02)
    for sheet, says in ((np.array([1.0, 0.9, 0.8]), "clipped"), (np.full(3, 1e-3), "too dark")):
        with pytest.raises(StepNotPossible, match=says):
            balance_of_grey(sheet, 0.2)


def test_what_cannot_be_read_is_said() -> None:
    with pytest.raises(StepNotPossible, match="4 of its 4 corner markers"):
        read_card(np.full((480, 640, 3), 120, np.uint8))
    half = photograph(np.ones(3))
    half[:, 320:] = 40
    with pytest.raises(StepNotPossible, match="not wholly in view: 2"):
        read_card(half)
    with pytest.raises(StepNotPossible, match="clipped: lower the exposure"):
        check_card(read_card(photograph(np.ones(3), exposure=1.7)))
    with pytest.raises(StepNotPossible, match="too dark: raise"):
        check_card(np.full((24, 3), 0.01))
    glare = read_card(photograph(np.ones(3)))
    glare[6:18] = np.clip(glare[6:18] + np.random.default_rng(5).uniform(0, 0.5, (12, 3)), 0, 0.95)
    assert not check_card(glare).ok
