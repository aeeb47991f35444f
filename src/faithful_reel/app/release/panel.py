"""The Release desk: details, files, their independent check."""

from __future__ import annotations

from PyQt6.QtWidgets import QFormLayout, QHBoxLayout, QLineEdit, QVBoxLayout

from faithful_reel.app.release.presenter import ReleasePresenter
from faithful_reel.app.theme import DAY, Theme
from faithful_reel.app.widgets.parts import ActButton, Desk, label
from faithful_reel.app.widgets.tables import Table


class ReleasePanel(Desk):
    """What leaves the house."""

    def __init__(self, presenter: ReleasePresenter) -> None:
        super().__init__()
        self.setObjectName("desk")
        self._presenter = presenter
        self._theme = DAY
        self.title, self.author, self.narrator = QLineEdit(), QLineEdit(), QLineEdit()
        form = QFormLayout()
        for name, edit in (("Title", self.title), ("Author", self.author), ("Narrator", self.narrator)):
            edit.setAccessibleName(name)
            edit.setMaximumWidth(420)
            edit.editingFinished.connect(self._edited)
            form.addRow(label(name, "quiet"), edit)
        self.go = ActButton("Release…", "release.write")
        head = QHBoxLayout()
        head.addWidget(label("Release", "title"))
        head.addStretch()
        head.addWidget(self.go)
        self.missing = label("", "quiet", wrap=True)
        self.files = Table(["File", "Rule", "Limit", "Value", "Check"], "Released files and their check", sortable=False)
        self.files.columns(stretch=0)
        box = QVBoxLayout(self)
        box.setContentsMargins(24, 16, 24, 12)
        box.addLayout(head)
        box.addLayout(form)
        box.addWidget(self.missing)
        box.addWidget(label("Finished files, read again by another decoder than the one that wrote them", "heading"))
        box.addWidget(self.files, 1)

    def set_theme(self, theme: Theme) -> None:
        """Colour the verdicts."""
        self._theme = theme

    def take_keys(self) -> None:
        """As `Desk`."""
        self.files.setFocus()

    def refresh(self) -> None:
        """Show details, what is missing, and the files."""
        presenter = self._presenter
        book = presenter.bench.book
        for edit, text in ((self.title, book.title), (self.author, book.author), (self.narrator, book.narrator)):
            if not edit.hasFocus():
                edit.setText(text)
        missing = presenter.missing()
        self.missing.setText("Still to do: " + "; ".join(missing) + "." if missing else "Everything is ready.")
        rows, colors = [], {}
        for released in presenter.released:
            for i, verdict in enumerate(released.verdicts):
                name = f"{released.path.name}   {presenter.bench.time_of_seconds(released.figures.seconds)}" if i == 0 else ""
                rows.append(
                    (
                        name,
                        verdict.rule.replace("_", " "),
                        verdict.limit.replace("-", "−"),
                        str(verdict.value).replace("-", "−"),
                        "✓ pass" if verdict.passed else "✕ FAIL",
                    )
                )
                colors[len(rows) - 1, 4] = self._theme.color("good" if verdict.passed else "red")
        if not presenter.released:
            rows = [(c.released, "", "", "", "released earlier") for c in book.chapters if c.released]
        self.files.fill(rows, colors=colors)
        self.go.setEnabled(not presenter.working and any(c.master for c in book.chapters))

    def _edited(self) -> None:
        self._presenter.set_details(self.title.text().strip(), self.author.text().strip(), self.narrator.text().strip())
