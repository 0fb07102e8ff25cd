"""The scripting face: what the window does, from Python.

```python
import attentive_lens as al

model = al.open_model("pollen-station/runs/0001/checkpoints/best.alens")
answers = model.predict("grain.png")  # or paths, folders, Pillow images, arrays, a list of them
map_ = model.explain("grain.png", target="spiny")
maps = model.feature_maps("grain.png", "relu 2")

run = al.open_workspace("pollen-station").runs()[-1]
print(run.score("test").accuracy, run.confusion)
```
"""

from attentive_lens.desk.script.models import Model, OneImage, open_model
from attentive_lens.desk.script.places import Workspace, new_workspace, open_workspace
from attentive_lens.desk.script.runs import Run, ask

__all__ = ["Model", "OneImage", "Run", "Workspace", "ask", "new_workspace", "open_model", "open_workspace"]
