#version 3.7;
global_settings { assumed_gamma 1 }
camera { location <0, 1.2, -4> look_at 0 }
light_source { <2, 3, -3> rgb Glow }
sphere { <sin(Number / 8), 0, 0>, 1 pigment { rgb <0.9, 0.6, 0.2> } }
plane { y, -1 pigment { checker rgb 0.2 rgb 0.5 } }
