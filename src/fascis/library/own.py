"""Where Fascis's own files are in a library: places below its folder.

Apart from what is in them, so that a helper process that passes them over starts quickly.
"""

OWN = b".fascis"
IDENTITY = OWN + b"/identity.json"
MANIFEST = OWN + b"/manifest.b3"
INVENTORY = OWN + b"/inventory.csv"
READINGS = OWN + b"/readings"
