"""How different two colours look: the CIEDE2000 formula, and CIE L*a*b* of linear sRGB light.

CIE 142-2001 in the form of Sharma, Wu & Dalal (2005), doi:10.1002/col.20070; sRGB primaries and white
point D65 of IEC 61966-2-1.
"""

import numpy as np

TO_XYZ = np.array(
    [[0.4124564, 0.3575761, 0.1804375], [0.2126729, 0.7151522, 0.0721750], [0.0193339, 0.1191920, 0.9503041]]
)
EPSILON, KAPPA = 216 / 24389, 24389 / 27  # of CIE 1976 L*a*b* (CIE 15:2004)
SEVENTH = 25.0**7  # of CIEDE2000 (Sharma et al. 2005)


def lab_of_linear(linear: np.ndarray) -> np.ndarray:
    """(n, 3) L*a*b* (D65) of linear sRGB light (n, 3) in 0-1."""
    xyz = np.asarray(linear, np.float64) @ TO_XYZ.T / TO_XYZ.sum(axis=1)
    f = np.where(xyz > EPSILON, np.cbrt(np.maximum(xyz, 0)), (KAPPA * xyz + 16) / 116)
    return np.stack([116 * f[:, 1] - 16, 500 * (f[:, 0] - f[:, 1]), 200 * (f[:, 1] - f[:, 2])], axis=1)


def delta_e_2000(one: np.ndarray, other: np.ndarray) -> np.ndarray:
    """(n,) CIEDE2000 differences of colours (n, 3) in L*a*b*; 1 is about what can just be seen."""
    L1, a1, b1 = np.asarray(one, np.float64).T
    L2, a2, b2 = np.asarray(other, np.float64).T
    mean_c7 = ((np.hypot(a1, b1) + np.hypot(a2, b2)) / 2) ** 7
    G = 0.5 * (1 - np.sqrt(mean_c7 / (mean_c7 + SEVENTH)))
    c1, c2 = np.hypot((1 + G) * a1, b1), np.hypot((1 + G) * a2, b2)
    h1 = np.degrees(np.arctan2(b1, (1 + G) * a1)) % 360
    h2 = np.degrees(np.arctan2(b2, (1 + G) * a2)) % 360
    grey = c1 * c2 == 0
    turn = np.where(grey, 0.0, (h2 - h1 + 180) % 360 - 180)
    # Exactly opposite hues keep the sign of the plain difference, as in Sharma's equation 10.
    turn = np.where(~grey & (np.abs(h2 - h1) == 180), h2 - h1, turn)
    dL, dC = L2 - L1, c2 - c1
    dH = 2 * np.sqrt(c1 * c2) * np.sin(np.radians(turn / 2))
    L, C = (L1 + L2) / 2, (c1 + c2) / 2
    total = h1 + h2
    wide = np.abs(h1 - h2) > 180
    hue = np.where(grey, total, np.where(~wide, total / 2, np.where(total < 360, (total + 360) / 2, (total - 360) / 2)))
    r = np.radians
    T = 1 - 0.17 * np.cos(r(hue - 30)) + 0.24 * np.cos(r(2 * hue)) + 0.32 * np.cos(r(3 * hue + 6))
    T -= 0.20 * np.cos(r(4 * hue - 63))
    turning = 2 * np.sqrt(C**7 / (C**7 + SEVENTH)) * np.sin(r(60 * np.exp(-(((hue - 275) / 25) ** 2))))
    SL = 1 + 0.015 * (L - 50) ** 2 / np.sqrt(20 + (L - 50) ** 2)
    SC, SH = 1 + 0.045 * C, 1 + 0.015 * C * T
    dL, dC, dH = dL / SL, dC / SC, dH / SH
    return np.sqrt(np.maximum(dL**2 + dC**2 + dH**2 - turning * dC * dH, 0))
