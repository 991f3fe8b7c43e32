// The Tidewatch Orrery, opening: a lighthouse keeper's clockwork planets.
// It animates by the number of the frame that is rendered. Frames run from 1 to 96.
#version 3.7;
#declare Frame = frame_number;
#declare T = (Frame - 1) / 95;

global_settings { assumed_gamma 1.0 max_trace_level 8 }
background { rgb <0.010, 0.016, 0.045> }

camera {
  location <sin(T * 2.1) * 7.2, 3.4 - 1.7 * T, -8.6 + 2.6 * T>
  right x * image_width / image_height
  look_at <0, 0.35, 0>
  angle 44
}

light_source { <0, 0.9, 0> rgb <1.25, 0.95, 0.60> * 1.15 fade_distance 6 fade_power 1 }
light_source { <-14, 16, -18> rgb <0.20, 0.26, 0.42> }

#declare Brass = texture {
  pigment { rgb <0.55, 0.36, 0.14> }
  finish { ambient 0.02 diffuse 0.45 specular 0.7 roughness 0.02 metallic reflection { 0.28 metallic } }
}
#declare Wood = texture {
  pigment { wood turbulence 0.06 color_map { [0 rgb <0.10, 0.05, 0.025>] [1 rgb <0.20, 0.11, 0.05>] } scale 0.3 rotate x * 4 }
  finish { diffuse 0.7 specular 0.25 roughness 0.05 }
}

// The table, the stand, and the gear train under the lamp.
cylinder { <0, -1.6, 0>, <0, -1.45, 0>, 6.2 texture { Wood } }
cylinder { <0, -1.45, 0>, <0, 0.3, 0>, 0.09 texture { Brass } }

#macro Gear(Radius, Teeth, Turn)
  union {
    difference {
      cylinder { <0, -0.06, 0>, <0, 0.06, 0>, Radius }
      #for (K, 0, 4)
        cylinder { <0, -0.1, 0>, <0, 0.1, 0>, Radius * 0.23 translate x * Radius * 0.58 rotate y * K * 72 }
      #end
    }
    #for (K, 0, Teeth - 1)
      box { <Radius - 0.04, -0.055, -0.045>, <Radius + 0.10, 0.055, 0.045> rotate y * K * 360 / Teeth }
    #end
    rotate y * Turn
    texture { Brass }
  }
#end
object { Gear(1.05, 32, T * 140) translate <0, -1.15, 0> }
object { Gear(0.52, 16, -T * 280 + 8) translate <1.62, -1.15, 0> }
object { Gear(0.68, 21, -T * 213) translate <-1.10, -1.15, -1.36> }

// The lamp.
sphere { 0, 0.34 translate y * 0.9
  pigment { rgb <1, 0.86, 0.55> } finish { ambient 1.4 diffuse 0 } no_shadow }

// Planets on their rings. The glass moons come one after another as the camera
// draws near: later frames are heavier.
#declare Moons = int(15 * pow(sin(T * pi), 2));
#macro Planet(Ring, Size, Speed, Phase, Colour, HasMoons)
  torus { Ring, 0.022 texture { Brass } translate y * 0.3 }
  union {
    sphere { 0, Size
      texture {
        pigment { bozo turbulence 0.6 color_map { [0 rgb Colour] [0.6 rgb Colour * 0.55] [1 rgb <0.9, 0.9, 0.85> * 0.8] } scale Size * 0.9 }
        finish { ambient 0.01 diffuse 0.75 specular 0.35 roughness 0.03 reflection 0.07 }
      }
      rotate y * T * 520 }
    cylinder { <0, -Size - 0.25, 0>, <0, -Size, 0>, 0.025 texture { Brass } }
    #if (HasMoons)
      #for (K, 1, Moons)
        sphere { 0, Size * 0.42
          pigment { rgbf <0.86, 0.94, 1.0, 0.92> }
          finish { diffuse 0.05 specular 0.9 roughness 0.004 reflection { 0.04, 0.7 fresnel } conserve_energy }
          interior { ior 1.5 }
          translate x * Size * (1.7 + 0.07 * K) rotate z * K * 17 rotate y * (K * 360 / max(1, Moons) + T * 420) }
      #end
    #end
    translate <Ring, 0.55 + Size * 0.4, 0>
    rotate y * (Phase + T * Speed)
  }
#end
Planet(1.25, 0.17, 400,  40, <0.72, 0.52, 0.34>, false)
Planet(2.05, 0.26, 250, 160, <0.16, 0.36, 0.62>, true)
Planet(2.95, 0.21, 170, 290, <0.66, 0.22, 0.12>, false)
Planet(3.95, 0.46,  95, 215, <0.70, 0.56, 0.38>, true)
Planet(5.05, 0.34,  60, 330, <0.22, 0.50, 0.52>, false)

// Fixed stars.
#declare Seed = seed(96);
#for (K, 1, 240)
  sphere { vnormalize(<rand(Seed) - 0.5, rand(Seed) * 0.55, rand(Seed) - 0.5>) * 60, 0.05 + 0.08 * rand(Seed)
    pigment { rgb 1 } finish { ambient 0.9 diffuse 0 } no_shadow }
#end
