"""Django's test runner, closing with one plain line of counts."""

from django.db import connection
from django.test.runner import DiscoverRunner, ParallelTestSuite
from numba.core.caching import Cache


def _begin(*args, **options):
    """Begin a process of tests: what one compiles for itself it keeps to itself, since another may be writing to the same file."""
    Cache.save_overload = lambda cache, signature, data: None
    ParallelTestSuite.init_worker(*args, **options)


class Processes(ParallelTestSuite):
    """Tests in several processes."""

    init_worker = _begin


class CountingRunner(DiscoverRunner):
    """Counts from the result: skipped tests are neither passed nor failed."""

    parallel_test_suite = Processes

    def setup_databases(self, **kwargs):
        processes, self.parallel = self.parallel, 1
        databases = super().setup_databases(**kwargs)
        self.parallel = processes
        if processes > 1:
            # Each process has a copy of the file: what still stands in the log beside it has to be in there.
            with connection.cursor() as cursor:
                cursor.execute("PRAGMA wal_checkpoint(TRUNCATE)")
            for number in range(1, processes + 1):
                connection.creation.clone_test_db(suffix=str(number), verbosity=self.verbosity)
        return databases

    def suite_result(self, suite, result, **kwargs):
        failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
        passed = result.testsRun - failed - len(result.skipped)
        skipped = f", {len(result.skipped)} skipped" if result.skipped else ""
        print(f"{passed} passed, {failed} failed{skipped}")  # noqa: T201
        return super().suite_result(suite, result, **kwargs)
