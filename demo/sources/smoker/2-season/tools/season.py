"""Weighs a made-up season week by week, and tells how often a keeper would have been warned."""

import random
import sys
import time

sys.path.insert(0, ".")
from smoker import warn

draw = random.Random(6)
warned = 0
for week in range(14, 40):
    weights = [40_000]
    for hour in range(1, 7 * 24):
        left = 2_000 if draw.random() < 0.001 else 0
        weights.append(weights[-1] + draw.randint(-40, 50) - left)
    lines = warn("heather-3", weights)
    warned += len(lines)
    print(f"week {week}: " + (", ".join(lines) or "quiet"), flush=True)
    time.sleep(0.15)  # the archive of weights gives one week at a time
print(f"{warned} warnings in the season")
