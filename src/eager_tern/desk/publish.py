"""Asking which broker is to hear what is caught."""

from __future__ import annotations

from PyQt6.QtWidgets import QDialog, QDialogButtonBox, QFormLayout, QLineEdit, QWidget

from eager_tern.bridge.broker import address_of
from eager_tern.bridge.messages import PREFIX, topics_of
from eager_tern.desk.qt import sure
from eager_tern.desk.words import Words
from eager_tern.errors import InputError
from eager_tern.session.publishing import Hearer
from eager_tern.texts import tr


class AskBroker(QDialog):
    """Address, password and what the topics begin with."""

    def __init__(self, address: str, prefix: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setWindowTitle(tr("Publish while listening"))
        words = Words(tr("Each press goes to an MQTT broker as it is caught. The password is not kept."))
        words.setWordWrap(True)
        self.address = QLineEdit(address or "mqtt://localhost")
        self.password = QLineEdit()
        self.password.setEchoMode(QLineEdit.EchoMode.Password)
        self.prefix = QLineEdit(prefix or PREFIX)
        self.wrong = Words()
        self.wrong.setObjectName("trouble")
        self.wrong.setWordWrap(True)
        form = QFormLayout(self)
        form.setContentsMargins(18, 16, 18, 14)
        form.setVerticalSpacing(10)
        form.addRow(words)
        for name, field in (
            (tr("Broker"), self.address),
            (tr("Password"), self.password),
            (tr("Topics begin with"), self.prefix),
        ):
            field.setAccessibleName(name)
            form.addRow(Words(name), field)
            field.textChanged.connect(self._check)
        form.addRow(self.wrong)
        buttons = QDialogButtonBox(QDialogButtonBox.StandardButton.Ok | QDialogButtonBox.StandardButton.Cancel)
        self.go = sure(buttons.button(QDialogButtonBox.StandardButton.Ok))
        self.go.setText(tr("Publish"))
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        form.addRow(buttons)
        self.setMinimumWidth(440)
        self._check()

    @property
    def hearer(self) -> Hearer:
        return Hearer(self.address.text().strip(), self.password.text(), self.prefix.text().strip())

    def _check(self) -> None:
        try:
            address_of(self.hearer.address)
            topics_of(self.hearer.prefix, "any")
        except InputError as error:
            self.wrong.setText(str(error).replace("--broker: ", "The address ").replace("--prefix", "The beginning"))
            self.go.setEnabled(False)
        else:
            self.wrong.setText("")
            self.go.setEnabled(True)
