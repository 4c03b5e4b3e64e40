"""A window with a copy of the small scored night whose plates are solved, at Plate."""

from tools.nights import solved_night

from tests.desktop.scored import ScoredCase


class SolvedCase(ScoredCase):
    """Tests on a copy of the solved night."""

    @classmethod
    def setUpClass(cls) -> None:
        """Solve the night once."""
        super().setUpClass()
        ScoredCase.made = solved_night()

    def setUp(self) -> None:
        """Open a copy at Plate."""
        super().setUp()
        self.model.set_station("plate")
        self.shown()
        self.quiet()

    @property
    def board(self):  # type: ignore[no-untyped-def]
        """The board of Plate."""
        return self.window.board_of["plate"]

    def turn(self, page: str):  # type: ignore[no-untyped-def]
        """Turn the board to a page by its button and return the page."""
        self.click(self.board.page_buttons[page])
        self.quiet()
        return self.board.shown
