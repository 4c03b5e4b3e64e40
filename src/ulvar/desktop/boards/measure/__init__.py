"""Measure: how bright, in which aperture, against which stars?"""
