"""From plan to proof: the steps of a batch, its journal, the runner that decides and the hands that do."""
