"""Gates under the names of their commands: `magnetite.gate.fit(accepted=, rejected=)`."""

from magnetite.experiment.gating import check_gate as check
from magnetite.experiment.gating import fit_gate as fit
from magnetite.experiment.gating import save_gate as save

__all__ = ["check", "fit", "save"]
