import unittest

from smoker import swarms, warn
from smoker.weather import warm_hours


class Swarms(unittest.TestCase):
    def test_a_swarm_leaves(self):
        self.assertEqual(swarms([30000, 30100, 28200, 28300]), [2])

    def test_foraging_is_no_swarm(self):
        self.assertEqual(swarms([30000, 29100, 28200]), [])

    def test_the_warning_names_the_hive(self):
        self.assertEqual(warn("Larch", [30000, 28000]), ["Larch: a swarm left in hour 1"])

    def test_noon_is_warm(self):
        self.assertIn(12, warm_hours())
