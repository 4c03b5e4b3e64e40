"""Masters: which calibration frames fit which lights?"""
