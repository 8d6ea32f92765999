"""Figures as people read them, for the headlines of reports."""

THIN = "\u2009"  # a thin space, before units


def count(value: float) -> str:
    """Large counts in three figures: `300 k`, `1.42 M`."""
    if value >= 1e6:
        return f"{value / 1e6:.2f}{THIN}M"
    if value >= 1e4:
        return f"{value / 1e3:.0f}{THIN}k"
    return f"{value:,.0f}".replace(",", THIN)


def percent(share: float, digits: int = 1) -> str:
    """A share 0-1 in percent."""
    return f"{share * 100:.{digits}f}{THIN}%"


def mm(value: float | None, digits: int = 1) -> str:
    """A length with its unit."""
    return "–" if value is None else f"{value:.{digits}f}{THIN}mm"


def change(before: float, after: float) -> str:
    """`4.33 M → 2.10 M`."""
    return f"{count(before)} → {count(after)}"
