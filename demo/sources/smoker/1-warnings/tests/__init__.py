"""Tests of smoker."""
