// The Tidewatch Orrery, the spiral stair: ambient occlusion alone. All is white clay under a white sky, so what is darker has
// less of the sky before it. It animates by the number of the frame that is rendered. Frames run from 1 to 240.
#version 3.7;
#declare T = (frame_number - 1) / 239;

global_settings { assumed_gamma 1.0 }
background { rgb 1 }
#default { pigment { rgb 1 } finish { ambient 0.12 diffuse 0.88 } }

// A dome of faint lights is the sky, evenly spread by the golden angle.
#declare Lights = 14;
#for (K, 0, Lights - 1)
  #declare Up = (K + 0.5) / Lights;
  light_source {
    <sqrt(1 - Up * Up) * cos(K * 2.39996), Up, sqrt(1 - Up * Up) * sin(K * 2.39996)> * 60
    rgb 1.9 / Lights
    parallel point_at 0
  }
#end

// The camera climbs with the stair.
camera {
  location <sin(T * 2.6) * 3.4, 1.3 + 2.4 * T, -cos(T * 2.6) * 3.4>
  right x * image_width / image_height
  look_at <0, 1.1 + 2.1 * T, 0>
  angle 62
}

plane { y, -0.2 }
cylinder { <0, -0.2, 0>, <0, 6, 0>, 0.22 }
#for (K, 0, 34)
  union {
    box { <0.2, -0.04, -0.22>, <1.7, 0.04, 0.22> }
    cylinder { <1.6, 0, 0>, <1.6, 0.75, 0>, 0.022 }
    sphere { <1.6, 0.75, 0>, 0.045 }
    rotate y * K * 23
    translate y * K * 0.165
  }
#end
