"""A turning view: one HTML file that shows an object and turns it, with nothing fetched from anywhere."""

import base64
import html

from lucid_relic.errors import StepNotPossible
from lucid_relic.io.formats.glb import glb_bytes
from lucid_relic.types import TriangleMesh

PAGE = """<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width,initial-scale=1">
<meta http-equiv="Content-Security-Policy"
 content="default-src 'none'; script-src 'unsafe-inline'; style-src 'unsafe-inline'; img-src data: blob:; connect-src data: blob:">
<title>{title}</title>
<style>
html,body{{margin:0;height:100%;background:#efe9dd;color:#1d2b3a;font:15px/1.4 system-ui,sans-serif}}
#view{{position:fixed;inset:0}}#view canvas{{display:block}}
#view:focus-visible{{outline:3px solid #1f6f63;outline-offset:-3px}}
p{{position:fixed;left:16px;bottom:12px;margin:0}}small{{color:#4d5a66}}
</style></head><body>
<div id="view" tabindex="0" role="img" aria-label="{title}, turning. Arrow keys turn it, + and - come nearer and go away, space stops it."></div>
<p>{title}<br><small>Drag to turn, wheel to come nearer, space stops and goes on</small></p>
<script type="application/octet-stream" id="mesh">{mesh}</script>
<!-- The script below holds three.js, copyright its authors, MIT licence. -->
<script>{viewer}</script>
</body></html>
"""


def turning_html(mesh: TriangleMesh, title: str, viewer: str) -> str:
    """The page of a mesh; viewer is the script that shows what the element `mesh` holds, as built by the front end."""
    if not viewer:
        raise StepNotPossible("The viewer of turning pages is not built: run “make build” first.")
    encoded = base64.b64encode(glb_bytes(mesh)).decode()
    safe = viewer.replace("</script", "<\\/script")
    return PAGE.format(title=html.escape(title), mesh=encoded, viewer=safe)
