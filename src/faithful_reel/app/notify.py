"""Telling the desktop that work is done while the window is away."""

from __future__ import annotations

from PyQt6.QtWidgets import QApplication, QWidget

SERVICE, PATH = "org.freedesktop.Notifications", "/org/freedesktop/Notifications"
"""Desktop Notifications Specification 1.3, section 9."""
SHOWN_MS = 8000


def notify(window: QWidget, text: str) -> bool:
    """Mark the window in the task bar, and show a notification where the desktop has a service for them.

    Whether it was away and told; a window that is in front is looked at already.
    """
    if window.isActiveWindow():
        return False
    QApplication.alert(window)
    from PyQt6.QtCore import QMetaType
    from PyQt6.QtDBus import QDBusArgument, QDBusConnection, QDBusInterface

    bus = QDBusConnection.sessionBus()
    if bus.isConnected():
        service = QDBusInterface(SERVICE, PATH, SERVICE, bus)
        if service.isValid():
            # the service's types are exact; the stubs do not know that a type may be named by its number
            nothing = QDBusArgument(0, QMetaType.Type.UInt.value)  # type: ignore[call-overload]
            actions = QDBusArgument([], QMetaType.Type.QStringList.value)  # type: ignore[call-overload]
            service.asyncCall("Notify", "Faithful Reel", nothing, "faithful-reel", "Faithful Reel", text, actions, {}, SHOWN_MS)
    return True
