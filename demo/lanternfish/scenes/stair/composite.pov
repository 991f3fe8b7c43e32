// The Tidewatch Orrery, the spiral stair: the composite. It needs two passes of the same frame, which Rotanex lays beside it as
// beauty.0001.png and occlusion.0001.png, and multiplies the light of the first with the occlusion of the second. What is half-way off is
// in a haze: beauty.depth.0001.png, a file that the beauty pass has beside its picture, is how near each point is.
#version 3.7;
#declare Number = str(frame_number, -4, 0);

global_settings { assumed_gamma 1.0 }
camera { orthographic location <0.5, 0.5, -1> look_at <0.5, 0.5, 0> right x up y }

#declare Beauty = function { pigment { image_map { png concat("beauty.", Number, ".png") once } } }
#declare Occlusion = function { pigment { image_map { png concat("occlusion.", Number, ".png") once } } }
#declare Depth = function { pigment { image_map { png concat("beauty.depth.", Number, ".png") once } } }
#declare Light = function(x, y, z) { Occlusion(x, y, z).gray * (1 - 1.4 * Depth(x, y, z).gray * (1 - Depth(x, y, z).gray)) }

box { <0, 0, 0>, <1, 1, 0.1>
  pigment {
    average
    pigment_map {
      [1 function { Beauty(x, y, z).red * Light(x, y, z) } color_map { [0 rgb 0] [1 rgb <3, 0, 0>] }]
      [1 function { Beauty(x, y, z).green * Light(x, y, z) } color_map { [0 rgb 0] [1 rgb <0, 3, 0>] }]
      [1 function { Beauty(x, y, z).blue * Light(x, y, z) } color_map { [0 rgb 0] [1 rgb <0, 0, 3>] }]
    }
  }
  finish { ambient 1 diffuse 0 }
}
