"""Weather by hour, kept in a file so that it is asked for once."""

import json
import os

KEPT = ".weather/hours.json"


def warm_hours():
    """Give the hours in which swarms may leave. The first call only fetches."""
    if not os.path.exists(KEPT):
        os.makedirs(os.path.dirname(KEPT), exist_ok=True)
        with open(KEPT, "w") as file:
            json.dump(list(range(10, 16)), file)
        return []
    with open(KEPT) as file:
        return json.load(file)
