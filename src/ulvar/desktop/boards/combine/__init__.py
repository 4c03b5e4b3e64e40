"""Combine: which exposures deserve to be in, and how well do they line up?"""
