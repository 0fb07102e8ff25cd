"""How the pages of this folder are built: see scripts/documents.py."""

project = html_title = "Attentive Lens"
extensions = ["myst_parser"]
exclude_patterns = ["pages"]
myst_heading_anchors = 3
nitpicky = True
highlight_language = "none"
html_theme = "furo"
html_show_copyright = html_show_sphinx = html_show_sourcelink = False
html_use_index = False
html_copy_source = True
html_sourcelink_suffix = ""
html_favicon = "../src/attentive_lens/desktop/icons/attentive-lens.svg"
html_css_files = ["pages.css"]
html_static_path = ["style"]
_light = {
    "color-brand-primary": "#0F6B72",
    "color-brand-content": "#0F6B72",
    "color-background-primary": "#FCFAF5",
    "color-background-secondary": "#F4F1EA",
    "color-foreground-primary": "#23292E",
    "font-stack": "Inter, system-ui, sans-serif",
}
_dark = {
    "color-brand-primary": "#4FB3B8",
    "color-brand-content": "#4FB3B8",
    "color-background-primary": "#1B1E21",
    "color-background-secondary": "#23272B",
    "color-foreground-primary": "#E9E4DA",
}
html_theme_options = {"light_css_variables": _light, "dark_css_variables": _dark}
