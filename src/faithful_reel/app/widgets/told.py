"""What assistive technology is told of parts that are painted.

The toolkit's binding lets them carry no text of their own, so that they carry a description that is always of now; setting one
is told by the toolkit itself.
"""

from __future__ import annotations

from PyQt6.QtWidgets import QWidget


def tell_reader(widget: QWidget, text: str) -> None:
    """Say what a widget shows now, where it is not what was said before."""
    if widget.accessibleDescription() != text:
        widget.setAccessibleDescription(text)
