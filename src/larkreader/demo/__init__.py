"""The dosing rig: a greenhouse controller and the pump head that meters nutrient for it."""
