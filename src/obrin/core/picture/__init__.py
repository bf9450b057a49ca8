"""Turns a design into rows, boxes and lines to draw."""
