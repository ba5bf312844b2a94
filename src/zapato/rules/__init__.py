"""One module a rule, or a family of rules that belong together.

Every check imports them all: what few devices need is imported in the function that needs it.
"""
