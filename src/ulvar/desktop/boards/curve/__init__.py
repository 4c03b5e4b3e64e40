"""Curve: what does the star do?"""
