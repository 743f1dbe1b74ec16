"""Runs the tests of a directory and prints JUnit XML; exit 1 when one failed."""

import sys
import time
import unittest
from xml.sax.saxutils import escape, quoteattr


class Result(unittest.TestResult):
    def __init__(self):
        super().__init__()
        self.lines = []

    def startTest(self, test):
        super().startTest(test)
        self.began, self.problem = time.monotonic(), ""

    def addFailure(self, test, err):
        super().addFailure(test, err)
        self.problem = self.failures[-1][1]

    def addError(self, test, err):
        super().addError(test, err)
        self.problem = self.errors[-1][1]

    def stopTest(self, test):
        kind, _, name = test.id().rpartition(".")
        head = f"<testcase classname={quoteattr(kind)} name={quoteattr(name)} time={quoteattr('%.3f' % (time.monotonic() - self.began))}"
        self.lines.append(head + (f"><failure>{escape(self.problem)}</failure></testcase>" if self.problem else "/>"))


result = Result()
unittest.defaultTestLoader.discover(sys.argv[1], top_level_dir=".").run(result)
print("<testsuite name='smoker'>", *result.lines, "</testsuite>", sep="\n")
for _, text in result.failures + result.errors:
    print(text, file=sys.stderr)
sys.exit(not result.wasSuccessful())
