"""The check board: a chessboard with a marker in every white square, so that its corners have numbers (ChArUco).

Detection is OpenCV's (`cv2.aruco`); corners are sub-pixel, pixel centres at integers as everywhere here.
"""

from dataclasses import dataclass

import cv2
import numpy as np

from lucid_relic.errors import InputError

DICTIONARY = cv2.aruco.DICT_5X5_250
LEAST_CORNERS = 8  # of a picture that is used
OTHERS = (cv2.aruco.DICT_4X4_250, cv2.aruco.DICT_6X6_250, cv2.aruco.DICT_7X7_250, cv2.aruco.DICT_5X5_250)


@dataclass(frozen=True)
class Board:
    """columns × rows squares of square_mm, markers of marker_mm numbered from first_id."""

    columns: int = 11
    rows: int = 8
    square_mm: float = 12.0
    marker_mm: float = 9.0
    first_id: int = 0

    def __post_init__(self) -> None:
        if not (3 <= self.columns <= 40 and 3 <= self.rows <= 40):
            raise InputError(f"A board has 3 to 40 squares a side, not {self.columns} × {self.rows}.")
        if not 0 < self.marker_mm < self.square_mm:
            raise InputError("A board’s markers must be smaller than its squares, and greater than 0 mm.")
        if not 0 <= self.first_id <= 250 - self.columns * self.rows // 2:
            raise InputError("A board’s markers are numbered within 0 to 249.")

    @property
    def size_mm(self) -> tuple[float, float]:
        """Width and height."""
        return self.columns * self.square_mm, self.rows * self.square_mm

    def of_opencv(self) -> cv2.aruco.CharucoBoard:
        """The board as OpenCV knows it."""
        ids = np.arange(self.columns * self.rows // 2) + self.first_id
        words = cv2.aruco.getPredefinedDictionary(DICTIONARY)
        return cv2.aruco.CharucoBoard((self.columns, self.rows), self.square_mm, self.marker_mm, words, ids)

    def picture(self, px_per_mm: float) -> np.ndarray:
        """(h, w) uint8 picture to print or to render, without a border."""
        size = tuple(round(side * px_per_mm) for side in self.size_mm)
        return self.of_opencv().generateImage(size)

    def outline(self) -> np.ndarray:
        """(4, 3) mm corners, in the board's frame: x along its rows, y down its columns, z away from the viewer."""
        w, h = self.size_mm
        return np.array([[0, 0, 0], [w, 0, 0], [w, h, 0], [0, h, 0]], np.float64)


@dataclass(frozen=True)
class SeenBoard:
    """pixels (n, 2) float64 of corners, places (n, 3) mm on the board, ids (n,)."""

    pixels: np.ndarray
    places: np.ndarray
    ids: np.ndarray


@dataclass(frozen=True)
class NoBoard:
    """Why a picture shows no board that can be used."""

    why: str


def find_board(picture: np.ndarray, board: Board) -> SeenBoard | NoBoard:
    """Look for the board in a picture (h, w) or (h, w, 3) uint8."""
    grey = picture if picture.ndim == 2 else cv2.cvtColor(picture, cv2.COLOR_RGB2GRAY)
    model = board.of_opencv()
    pixels, ids, _, markers = cv2.aruco.CharucoDetector(model).detectBoard(grey)
    own = 0 if markers is None else int(np.isin(markers, model.getIds()).sum())
    count = 0 if ids is None else len(ids)
    if count >= LEAST_CORNERS:
        flat = np.asarray(ids).ravel()
        return SeenBoard(
            np.asarray(pixels, np.float64).reshape(-1, 2),
            np.asarray(model.getChessboardCorners())[flat].astype(np.float64),
            flat,
        )
    if count:
        return NoBoard(f"Only {count} corners of the board are in view; {LEAST_CORNERS} are needed.")
    if own:
        return NoBoard("Markers of the board are in view, but no corner between them: bring it nearer or into focus.")
    if any(_markers(grey, words) for words in OTHERS):
        return NoBoard("This is another board: its markers are not those of the board that was chosen.")
    return NoBoard("The board is not in view, or too dark, too bright or blurred to be read.")


def _markers(grey: np.ndarray, words: int) -> int:
    """How many markers of any board with those words are in a picture."""
    detector = cv2.aruco.ArucoDetector(cv2.aruco.getPredefinedDictionary(words), cv2.aruco.DetectorParameters())
    _, ids, _ = detector.detectMarkers(grey)
    return 0 if ids is None else int(len(ids) >= 3) * len(ids)
