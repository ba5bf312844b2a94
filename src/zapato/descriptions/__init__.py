"""Descriptions of a device by open standards: what others need to find and drive it."""

from zapato.descriptions.asyncapi import asyncapi
from zapato.descriptions.models import thing_models
from zapato.descriptions.thing import thing

__all__ = ["asyncapi", "thing", "thing_models"]
