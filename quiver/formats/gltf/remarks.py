"""Collects findings while a file is read, so that the artist sees all of them at once."""

from quiver.errors import BadFormat, Finding


class Remarks:
    """A growing list of findings; ``refused`` says whether the file can still be used."""

    def __init__(self):
        self.findings = []

    def note(self, identifier, message, hint, where):
        self._add("note", identifier, message, hint, where)

    def warn(self, identifier, message, hint, where):
        self._add("warning", identifier, message, hint, where)

    def refuse(self, identifier, message, hint, where):
        self._add("refused", identifier, message, hint, where)

    def _add(self, level, identifier, message, hint, where):
        finding = Finding(level, message, hint, where, identifier)
        if finding not in self.findings:
            self.findings.append(finding)

    @property
    def refused(self):
        return any(finding.level == "refused" for finding in self.findings)

    def guard(self, read):
        """Run one part of the reading; a refusal becomes findings, and the next part is still read."""
        try:
            return read()
        except BadFormat as error:
            self.findings.extend(finding for finding in error.findings if finding not in self.findings)
            return None

    def refusal(self):
        """The BadFormat that carries all findings."""
        first = next(finding for finding in self.findings if finding.level == "refused")
        return BadFormat(f"{first.message} ({first.where})", self.findings)
