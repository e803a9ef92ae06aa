"""Django's test runner, closing with one plain line of counts."""

from django.test.runner import DiscoverRunner


class CountingRunner(DiscoverRunner):
    """Counts from the result: skipped tests are neither passed nor failed."""

    def suite_result(self, suite, result, **kwargs):
        failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
        passed = result.testsRun - failed - len(result.skipped)
        skipped = f", {len(result.skipped)} skipped" if result.skipped else ""
        print(f"{passed} passed, {failed} failed{skipped}")  # noqa: T201
        return super().suite_result(suite, result, **kwargs)
