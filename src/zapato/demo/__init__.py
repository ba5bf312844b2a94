"""The demo site as package data, and copying it out."""
