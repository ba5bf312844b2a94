"""One module a rule, or a family of rules told together."""
