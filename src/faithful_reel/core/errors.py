"""Errors that a user can cause or cure; anything else is our own bug."""

from __future__ import annotations


class AppError(Exception):
    """One sentence to show: what happened, to which file, what to do."""


class FileProblem(AppError):
    """A file is missing, unreadable, damaged or of the wrong kind."""


class SignalError(AppError):
    """Audio that can not be worked with: empty, damaged or silent."""


class EarMissing(AppError):
    """The recogniser's weights are not on this machine."""


class StoreProblem(AppError):
    """The book on disk can not be opened or written."""


class BookInUse(StoreProblem):
    """The book is open already, in another window or by another program."""


class EditRefused(AppError):
    """A command that can not be carried out here."""


class Cancelled(Exception):
    """The user stopped a job."""


class BookDamaged(StoreProblem):
    """The book's database is damaged or incomplete; a backup may be restored."""
