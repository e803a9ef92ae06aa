"""Collects findings while a file is read, so that the artist sees all of them at once."""

from quiver.errors import BadFormat, Finding

MOST_OF_A_KIND = 100
"""Findings of one kind that are listed one by one."""


def unique_names(names):
    """The names, with a number after each that another one before it has."""
    taken, numbers, out = set(), {}, []
    for base in names:
        name = base
        while name in taken:
            numbers[base] = numbers.get(base, 1) + 1
            name = f"{base} #{numbers[base]}"
        taken.add(name)
        out.append(name)
    return out


class Remarks:
    """A growing list of findings; ``refused`` says whether the file can still be used."""

    def __init__(self):
        self._counts, self._findings, self._known = {}, [], set()

    @property
    def findings(self):
        """What was found; of many of one kind, the first, and how many more."""
        left = {level_id: count - MOST_OF_A_KIND for level_id, count in self._counts.items() if count > MOST_OF_A_KIND}
        return [*self._findings, *(Finding(level, f"{more} more of this kind", "", "file", name) for (level, name), more in left.items())]

    def note(self, identifier, message, hint, where):
        self._add("note", identifier, message, hint, where)

    def warn(self, identifier, message, hint, where):
        self._add("warning", identifier, message, hint, where)

    def refuse(self, identifier, message, hint, where):
        self._add("refused", identifier, message, hint, where)

    def _add(self, level, identifier, message, hint, where):
        self._keep(Finding(level, message, hint, where, identifier))

    def _keep(self, finding):
        if finding in self._known:
            return
        kind = finding.level, finding.id
        self._counts[kind] = self._counts.get(kind, 0) + 1
        if self._counts[kind] <= MOST_OF_A_KIND:
            self._known.add(finding)
            self._findings.append(finding)

    @property
    def refused(self):
        return any(level == "refused" for level, _ in self._counts)

    def guard(self, read):
        """Run one part of the reading; a refusal becomes findings, and the next part is still read."""
        try:
            return read()
        except BadFormat as error:
            for finding in error.findings:
                self._keep(finding)
            return None

    def refusal(self):
        """The BadFormat that carries all findings."""
        first = next(finding for finding in self._findings if finding.level == "refused")
        return BadFormat(f"{first.message} ({first.where})", self.findings)
