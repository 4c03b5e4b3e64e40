"""Calibrate: did the pixels get better?"""
