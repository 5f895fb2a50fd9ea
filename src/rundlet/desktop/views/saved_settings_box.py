"""Ways to pack that are kept under a name of the person's own."""

from __future__ import annotations

from typing import TYPE_CHECKING

from PySide6.QtWidgets import QHBoxLayout, QPushButton, QSizePolicy, QWidget

from rundlet.desktop.theme.theme import theme
from rundlet.desktop.views.basics import heading, page_layout
from rundlet.desktop.views.dropdown import Dropdown

if TYPE_CHECKING:
    from rundlet.core.userdata.presets import Presets
    from rundlet.desktop.state.workspace import Workspace


class SavedSettingsBox(QWidget):
    """The names, a field for another one, and what can be done with it."""

    def __init__(self, workspace: Workspace, presets: Presets) -> None:
        super().__init__()
        self._workspace = workspace
        self._presets = presets
        column = page_layout(self, gap=theme.sizes.space)
        column.addWidget(heading("Saved settings"))
        self.names = Dropdown()
        self.names.setEditable(True)
        self.names.setInsertPolicy(Dropdown.InsertPolicy.NoInsert)
        self.names.setAccessibleName("Name of the saved settings")
        self.names.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        field = self.names.lineEdit()
        assert field is not None
        field.setPlaceholderText("Name to save them under")
        field.setAccessibleName("Name of the saved settings")
        self.keep = QPushButton("Save")
        self.forget = QPushButton("Delete")
        row = QHBoxLayout()
        row.addWidget(self.names, 1)
        row.addWidget(self.keep)
        row.addWidget(self.forget)
        column.addLayout(row)
        self._fill("")
        self.names.activated.connect(self._take)
        self.names.editTextChanged.connect(self._show)
        field.returnPressed.connect(self._keep)
        self.keep.clicked.connect(self._keep)
        self.forget.clicked.connect(self._forget)

    def _fill(self, chosen: str) -> None:
        self.names.blockSignals(True)
        self.names.clear()
        self.names.addItems(sorted(self._presets.saved, key=str.casefold))
        self.names.setCurrentIndex(self.names.findText(chosen) if chosen else -1)
        self.names.setEditText(chosen)
        self.names.blockSignals(False)
        self._show()

    def _show(self, _: str = "") -> None:
        name = self.names.currentText().strip()
        self.keep.setEnabled(bool(name))
        self.forget.setVisible(name in self._presets.saved)

    def _take(self, index: int) -> None:
        settings = self._presets.saved.get(self.names.itemText(index))
        if settings is not None:
            self._workspace.packing.change(lambda form: form.take(settings))

    def _keep(self) -> None:
        name = self.names.currentText().strip()
        if name:
            self._presets.keep(name, self._workspace.packing.form.settings)
            self._fill(name)

    def _forget(self) -> None:
        self._presets.forget(self.names.currentText().strip())
        self._fill("")
