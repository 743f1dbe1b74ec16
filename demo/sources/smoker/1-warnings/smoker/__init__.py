"""Swarm warnings from hive weights, in grams, one an hour."""

FALL = 1500


def swarms(weights):
    """Give the hours at which a colony left: a fall of a kilogram and a half."""
    return [hour for hour in range(1, len(weights)) if weights[hour - 1] - weights[hour] >= FALL]


def warn(hive, weights):
    """Give a line for each swarm."""
    return [f"{hive}: a swarm left in hour {hour}" for hour in swarms(weights)]
