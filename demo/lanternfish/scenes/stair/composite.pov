// The Tidewatch Orrery, the spiral stair: the composite. It needs two passes of the same frame, which Rotanex lays beside it as
// beauty.0001.png and occlusion.0001.png, and multiplies the light of the first with the occlusion of the second.
#version 3.7;
#declare Number = str(frame_number, -4, 0);

global_settings { assumed_gamma 1.0 }
camera { orthographic location <0.5, 0.5, -1> look_at <0.5, 0.5, 0> right x up y }

#declare Beauty = function { pigment { image_map { png concat("beauty.", Number, ".png") once } } }
#declare Occlusion = function { pigment { image_map { png concat("occlusion.", Number, ".png") once } } }

box { <0, 0, 0>, <1, 1, 0.1>
  pigment {
    average
    pigment_map {
      [1 function { Beauty(x, y, z).red * Occlusion(x, y, z).gray } color_map { [0 rgb 0] [1 rgb <3, 0, 0>] }]
      [1 function { Beauty(x, y, z).green * Occlusion(x, y, z).gray } color_map { [0 rgb 0] [1 rgb <0, 3, 0>] }]
      [1 function { Beauty(x, y, z).blue * Occlusion(x, y, z).gray } color_map { [0 rgb 0] [1 rgb <0, 0, 3>] }]
    }
  }
  finish { ambient 1 diffuse 0 }
}
