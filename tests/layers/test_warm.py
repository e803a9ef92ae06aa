"""Warm-up compiles what runs need: after it, a real run compiles nothing."""

import json
import subprocess
import sys
from unittest import TestCase

from tests.browser.server import ROOT

SCRIPT = """
import importlib, json, pkgutil
from numba.core.registry import CPUDispatcher
import quiver.kernels
from quiver.demo import mudwick
from quiver.formats.gltf.reading import read_character
from quiver.run.execute import execute
from quiver.run.plan import compile_plan
from quiver.run.spec import TakeSpec
from quiver.warm import warm

def compiled():
    modules = [importlib.import_module(f"quiver.kernels.{each.name}") for each in pkgutil.iter_modules(quiver.kernels.__path__)]
    found = {value for module in modules for value in vars(module).values() if isinstance(value, CPUDispatcher)}
    return {f"{each.py_func.__qualname__}{signature}" for each in found for signature in each.signatures}

warm()
before = compiled()
glb, setup = mudwick.build()
character, _ = read_character(glb, "Mudwick")
list(execute(compile_plan(TakeSpec(character, setup, "walk", 0, 4))))
print(json.dumps([len(before), sorted(compiled() - before)]))
"""


class WarmTest(TestCase):
    def test_after_it_mudwick_s_walk_compiles_nothing(self):
        done = subprocess.run([sys.executable, "-c", SCRIPT], cwd=ROOT, capture_output=True, text=True, check=True, timeout=600)
        count, new = json.loads(done.stdout)
        self.assertGreater(count, 10)
        self.assertEqual(new, [])
