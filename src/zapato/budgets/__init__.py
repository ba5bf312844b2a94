"""Budgets: what a design takes of what its board has, in numbers with their formulas and sources.

One module a topic, each with its figures as typed values and as rows; `whole` puts them together. The checks
look at the same figures.
"""
