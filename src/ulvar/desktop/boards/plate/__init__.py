"""Plate: where is this on the sky?"""
