"""Every action of the window in one table: menus, finder, shortcuts, tooltips and the docs read it."""

from __future__ import annotations

from dataclasses import dataclass

from ulvar.desktop.picture.header import TOGGLES


@dataclass(frozen=True)
class ActionSpec:
    """One action: command word, what it is called, its keys, and what it does in a sentence."""

    command: str
    text: str
    keys: str = ""
    tip: str = ""
    menu: str = ""


ACTIONS = (
    ActionSpec(
        "open",
        "Open a folder or night…",
        "Ctrl+O",
        "Choose a folder of raw exposures, or a night made before",
        "file",
    ),
    ActionSpec(
        "add folder", "Add a folder to this night…", "", "Add more raw exposures to the night that is open", "file"
    ),
    ActionSpec("rescan", "Read the folder again", "F5", "Look for new, changed and missing files", "file"),
    ActionSpec(
        "export picture",
        "Save a picture…",
        "Ctrl+Shift+S",
        "The picture as on screen, for print or with every pixel; at Curve the plot",
        "file",
    ),
    ActionSpec(
        "export result",
        "Save a copy of the result…",
        "Ctrl+S",
        "The stack, the measured series or the light curve, to a place of your choice",
        "file",
    ),
    ActionSpec(
        "chart",
        "Save a finder chart…",
        "",
        "The field with catalogue stars, targets, marks and bodies, as PDF, PNG or SVG",
        "file",
    ),
    ActionSpec(
        "figure",
        "Figure and report of the light curve…",
        "",
        "A figure for print in a style of your own, and a page with all numbers, as PDF, SVG, PNG or HTML",
        "file",
    ),
    ActionSpec(
        "exchange",
        "Light curve for an association…",
        "",
        "The text form that associations of variable-star and minor-planet observers take, after a check of what it requires",
        "file",
    ),
    ActionSpec(
        "export table",
        "Save the table of exposures…",
        "Ctrl+E",
        "Every scored exposure with all its qualities, as CSV",
        "file",
    ),
    ActionSpec("quit", "Quit", "Ctrl+Q", "Close the window; everything is stored", "file"),
    ActionSpec("undo", "Undo", "Ctrl+Z", "Undo the last change", "edit"),
    ActionSpec("redo", "Redo", "Ctrl+Shift+Z", "Do it again", "edit"),
    ActionSpec("leave out", "Leave out or put back", "X", "The brushed exposures, or the current one", "edit"),
    ActionSpec(
        "facts",
        "Facts of this exposure…",
        "Ctrl+I",
        "See and correct role, filter, times, site, pointing, focal length and all else that is known",
        "edit",
    ),
    ActionSpec(
        "header",
        "Header of this file",
        "Ctrl+H",
        "Every card, with search; what was corrected; which steps made it",
        "edit",
    ),
    ActionSpec(
        "add rule", "Add a rule…", "Ctrl+L", "Hold exposures out of the stack by one of their qualities", "edit"
    ),
    ActionSpec(
        "region rectangle", "Leave a rectangle out", "", "No stars are looked for in it; drag it on the picture", "edit"
    ),
    ActionSpec(
        "region circle",
        "Leave a circle out",
        "",
        "No stars are looked for in it; drag from its middle outwards",
        "edit",
    ),
    ActionSpec(
        "region polygon",
        "Leave a polygon out",
        "",
        "No stars are looked for in it; click its corners, a double click closes it",
        "edit",
    ),
    ActionSpec(
        "mark body",
        "Mark a moving body",
        "",
        "Click it in two exposures or more: a stack is made on which it stays and the stars trail",
        "edit",
    ),
    ActionSpec("forget body", "Forget the moving body", "", "Take its marks away", "edit"),
    ActionSpec(
        "common star",
        "Point out a common star",
        "",
        "Click a star in an exposure that is not aligned, then the same star in the reference",
        "edit",
    ),
    ActionSpec(
        "reference",
        "Take this exposure as the reference",
        "",
        "Stacks lie on its pixels; again, and the best exposure is the reference",
        "edit",
    ),
    ActionSpec(
        "mark place",
        "Mark a place",
        "V",
        "Click any place: it is marked in every exposure, also where nothing is seen",
        "edit",
    ),
    ActionSpec("forget pair", "Forget the pair of stars", "", "Name no pair any more", "edit"),
    ActionSpec("regions back", "Remove the regions left out", "", "Look for stars everywhere again", "edit"),
    ActionSpec(
        "sessions", "Sessions and tags…", "", "Let folder names say which session or tag an exposure has", "edit"
    ),
    ActionSpec("station intake", "Intake", "1", "What do I have?", "go"),
    ActionSpec("station masters", "Masters", "2", "Which calibration frames fit which lights?", "go"),
    ActionSpec("station calibrate", "Calibrate", "3", "Did the pixels get better?", "go"),
    ActionSpec("station combine", "Combine", "4", "Which exposures deserve to be in?", "go"),
    ActionSpec("station plate", "Plate", "5", "Where is this on the sky?", "go"),
    ActionSpec("station measure", "Measure", "6", "How bright, against which stars?", "go"),
    ActionSpec("station curve", "Curve", "7", "What does the star do?", "go"),
    ActionSpec("previous", "Previous exposure", "Left", "Step back along the night line", "go"),
    ActionSpec("next", "Next exposure", "Right", "Step on along the night line", "go"),
    ActionSpec("previous series", "Previous series", ",", "Work on the series before, from Combine to Curve", "go"),
    ActionSpec("next series", "Next series", ".", "Work on the series after, from Combine to Curve", "go"),
    ActionSpec(
        "brush back", "Select the exposure before too", "Shift+Left", "Draw the selection on the night line out", "go"
    ),
    ActionSpec(
        "brush on", "Select the exposure after too", "Shift+Right", "Draw the selection on the night line out", "go"
    ),
    ActionSpec("movie", "Play the night", "M", "Step through the exposures as a movie; again, or Esc, to stop", "go"),
    ActionSpec("movie faster", "Movie faster", "]", "Half as many exposures a second more", "go"),
    ActionSpec("movie slower", "Movie slower", "[", "A third fewer exposures a second", "go"),
    ActionSpec(
        "tile",
        "Side by side",
        "N",
        "One, two or four exposures with the same place and zoom: the brushed ones, or those that follow",
        "view",
    ),
    ActionSpec("cursor left", "Cursor to the left", "Ctrl+Left", "Point at the picture by the keyboard", "view"),
    ActionSpec("cursor right", "Cursor to the right", "Ctrl+Right", "Point at the picture by the keyboard", "view"),
    ActionSpec("cursor up", "Cursor upwards", "Ctrl+Up", "Point at the picture by the keyboard", "view"),
    ActionSpec("cursor down", "Cursor downwards", "Ctrl+Down", "Point at the picture by the keyboard", "view"),
    ActionSpec("cursor left fine", "Cursor one pixel left", "Ctrl+Shift+Left", "One pixel of the image", "view"),
    ActionSpec("cursor right fine", "Cursor one pixel right", "Ctrl+Shift+Right", "One pixel of the image", "view"),
    ActionSpec("cursor up fine", "Cursor one pixel up", "Ctrl+Shift+Up", "One pixel of the image", "view"),
    ActionSpec("cursor down fine", "Cursor one pixel down", "Ctrl+Shift+Down", "One pixel of the image", "view"),
    ActionSpec("cursor next star", "Cursor to the next star", "E", "From the brightest star on", "view"),
    ActionSpec("cursor previous star", "Cursor to the star before", "Shift+E", "Towards the brightest star", "view"),
    ActionSpec(
        "cursor press",
        "Click at the cursor",
        "Ctrl+Return",
        "As a click there; a line, a rectangle or a circle begins at the first and ends at the second",
        "view",
    ),
    ActionSpec(
        "page lights", "Calibrated lights", "", "Calibrate: what was used, and the noise before and after", "go"
    ),
    ActionSpec(
        "page defects", "Defective pixels of the camera", "", "Calibrate: thresholds, and the camera's list", "go"
    ),
    ActionSpec("page flat", "Flat fit", "", "Calibrate: does the flat correct too much or too little?", "go"),
    ActionSpec(
        "page camera",
        "Gain and read noise",
        "",
        "Calibrate: measured from pairs of flats, remembered for the camera",
        "go",
    ),
    ActionSpec("page exposures", "Exposures and their qualities", "", "Combine: table, lines and scatter", "go"),
    ActionSpec("page rules", "Rules and score", "", "Combine: what holds exposures out of the stack", "go"),
    ActionSpec("page stars", "Stars of this exposure", "", "Combine: the star table and the limits of finding", "go"),
    ActionSpec("page field", "Field map", "", "Combine: width and elongation over the field", "go"),
    ActionSpec(
        "page alignment", "Alignment of this exposure", "", "Combine: the map, why that one, and its residuals", "go"
    ),
    ActionSpec(
        "page result", "Result of the stack", "", "Combine: depth, what was rejected, maps, a pixel's history", "go"
    ),
    ActionSpec("page solutions", "Plate solutions", "", "Plate: where each exposure is on the sky", "go"),
    ActionSpec("page pair", "Pair of stars", "", "Plate: separation and position angle, in every exposure", "go"),
    ActionSpec(
        "page bodies", "Moving bodies", "", "Plate: where they are in every exposure, and how far off their table", "go"
    ),
    ActionSpec("page measured", "Measured stars", "", "Measure: the stars with a role, and how they behave", "go"),
    ActionSpec(
        "page aperture", "Aperture", "", "Measure: light and noise over the radius, and what they speak for", "go"
    ),
    ActionSpec(
        "page comparisons",
        "Candidates for comparison stars",
        "",
        "Measure: every star of the field, and what speaks against it",
        "go",
    ),
    ActionSpec("page whole", "The whole field", "", "Measure: what all stars scatter by, and which of them vary", "go"),
    ActionSpec("page places", "Named places", "", "Plate: targets, marks and bodies, and where they are", "go"),
    ActionSpec("run", "Run the station", "Ctrl+R", "Do what the station's button says", "run"),
    ActionSpec(
        "run every",
        "Run the station for all series",
        "Ctrl+Shift+R",
        "One series after the other, each by itself",
        "run",
    ),
    ActionSpec("run score", "Score the exposures", "", "Find stars, judge and align each exposure", "run"),
    ActionSpec("run stack", "Stack the exposures", "", "Combine the exposures that are kept", "run"),
    ActionSpec(
        "run colour",
        "Make the colour picture",
        "",
        "Of the stacks through red, green and blue, aligned, the average star white",
        "run",
    ),  # fmt: skip
    ActionSpec(
        "run mosaic",
        "Make a mosaic",
        "",
        "Of all fields through this filter, laid beside each other by the stars that they share",
        "run",
    ),
    ActionSpec(
        "run watch",
        "Stack while exposures arrive",
        "",
        "Watch the night's folder: each new exposure is calibrated, aligned and added; Esc ends it",
        "run",
    ),
    ActionSpec(
        "run follow",
        "Measure while exposures arrive",
        "",
        "Watch the night's folder: each new exposure is calibrated and measured, and joins the light curve; Esc ends it",
        "run",
    ),
    ActionSpec(
        "run pair",
        "Measure the pair in every exposure",
        "",
        "Separation and position angle of the two stars that were named",
        "run",
    ),
    ActionSpec(
        "run harder",
        "Try unsolved exposures again, harder",
        "",
        "Without a hint, at any scale, and for six times as long; what is solved stays as it is",
        "run",
    ),
    ActionSpec(
        "run growth",
        "Try apertures",
        "",
        "On the target, in the best, a typical and the worst seeing of the series",
        "run",
    ),
    ActionSpec(
        "take aperture", "Use the proposed aperture", "", "Set aperture and annulus as trying them proposes", "edit"
    ),
    ActionSpec(
        "run field", "Measure the whole field", "", "Every star in every exposure; those that vary are named", "run"
    ),
    ActionSpec(
        "run bodies",
        "Measure moving bodies in every exposure",
        "",
        "Their places, and how far off their table they are",
        "run",
    ),
    ActionSpec(
        "run deep", "Make the deep view", "", "The median of the aligned night, to place marks on faint stars", "run"
    ),
    ActionSpec(
        "measure camera",
        "Measure gain and read noise",
        "",
        "Photon transfer from pairs of flats and bias frames",
        "run",
    ),
    ActionSpec("plan flats", "Plan flats…", "", "From test flats to the exposure that gives the wanted level", "run"),
    ActionSpec(
        "write list",
        "Write the shooting list…",
        "",
        "Calibration frames still to be taken, as a table or a page to print",
        "run",
    ),
    ActionSpec(
        "add masters", "Add masters to the library…", "", "Masters made elsewhere, for this and other nights", "run"
    ),
    ActionSpec(
        "keep masters", "Copy the masters to the library", "", "Copy the masters of this night for other nights", "run"
    ),
    ActionSpec(
        "propose", "Propose comparison stars", "", "Comparison and check stars of like brightness to the target", "run"
    ),
    ActionSpec(
        "catalogues",
        "Star catalogues…",
        "",
        "Those on this machine: what each covers, how deep it is, its epoch and licence; one is chosen",
        "run",
    ),
    ActionSpec(
        "star places",
        "Stars by coordinates…",
        "Ctrl+T",
        "Target, comparison and check stars by their places on the sky, or from a list",
        "run",
    ),
    ActionSpec(
        "nights",
        "A target over nights…",
        "",
        "All nights of a folder that measured a star: joined, folded, minima timed, an ephemeris or a rotation fitted",
        "run",
    ),
    ActionSpec(
        "fast",
        "Fast series…",
        "",
        "Thousands of short frames (SER, AVI, FITS): light in every frame, and when an occultation began and ended",
        "run",
    ),
    ActionSpec("role target", "Make it the target", "Alt+T", "The star at the cursor of the keyboard", "run"),
    ActionSpec(
        "role comparison", "Make it a comparison star", "Alt+C", "The star at the cursor of the keyboard", "run"
    ),
    ActionSpec("role check", "Make it a check star", "Alt+K", "The star at the cursor of the keyboard", "run"),
    ActionSpec("role none", "Take its role away", "Alt+0", "The star at the cursor of the keyboard", "run"),
    ActionSpec("stop", "Stop", "Esc", "Stop what runs; finished products are kept", "run"),
    ActionSpec("one to one", "One to one", "Z", "One image pixel to one screen pixel", "view"),
    ActionSpec("zoom in", "Zoom in", "+", "Twice as large", "view"),
    ActionSpec("zoom out", "Zoom out", "-", "Half as large", "view"),
    ActionSpec(
        "curve together",
        "Curves of all filters",
        "",
        "Curve: the field's other series beside this one, each shifted by what its name says",
        "view",
    ),
    *(ActionSpec(f"toggle {one.key}", one.title, one.keys, one.tip, "view") for one in TOGGLES),
    ActionSpec(
        "same levels",
        "Same levels for all exposures",
        "",
        "So that a cloud or dawn shows; again for levels of each",
        "view",
    ),
    ActionSpec("auto", "Auto levels", "L", "Choose black and white from sky level and noise", "view"),
    ActionSpec("theme dark", "Dark theme", "", "Slate with amber", "view"),
    ActionSpec("theme light", "Light theme", "", "For daylight", "view"),
    ActionSpec("theme red", "Red theme", "", "For dark-adapted eyes", "view"),
    ActionSpec("text larger", "Text and controls larger", "", "In steps up to 150 %, from the next start on", "view"),
    ActionSpec(
        "text smaller", "Text and controls smaller", "", "In steps down to 85 %, from the next start on", "view"
    ),
    ActionSpec("text usual", "Text and controls at their usual size", "", "100 %, from the next start on", "view"),
    ActionSpec("find", "Find a command", "Ctrl+K", "Every action by a few letters", "help"),
    ActionSpec("help", "What is this?", "F1", "Explain what is under the cursor", "help"),
)
