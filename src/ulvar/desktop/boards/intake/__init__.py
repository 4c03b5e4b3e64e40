"""Intake: what do I have, and is it what I think?"""
