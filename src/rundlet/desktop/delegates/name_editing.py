"""A name that is typed in its row."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QLineEdit, QStyledItemDelegate, QWidget

if TYPE_CHECKING:
    from PySide6.QtCore import QModelIndex, QPersistentModelIndex


class NameEditingDelegate(QStyledItemDelegate):
    """Fills the field with the name once; a row may change meanwhile, as when its size has been counted."""

    def setEditorData(self, editor: QWidget, index: QModelIndex | QPersistentModelIndex) -> None:
        if isinstance(editor, QLineEdit) and (editor.text() or editor.isModified()):
            return  # what is typed stays
        super().setEditorData(editor, index)
