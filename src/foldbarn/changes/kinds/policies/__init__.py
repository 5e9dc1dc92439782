"""Kinds of change that write down what volumes are promised."""
