#pragma once

#include "jovilux/color/rgb.h"
#include "jovilux/color/spectra.h"

#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace jovilux {

/// A source's spectrum by name: "cie-a", "cie-c", "cie-d50", "cie-d55", "cie-d65", "cie-f1" ..
/// "cie-f12", and
/// "led-T" for T in [2200, 6500] K, such as "led-3000". Nothing for another name.
std::optional<NmTable> spectrum_named(std::string_view name);
/// The names, for messages.
std::vector<std::string> spectrum_names();

/// A phosphor-converted LED of our own: a blue pump (450 nm, 20 nm wide), a yellow-green and a red
/// phosphor (545 nm, 110 nm; 620 nm, 80 nm), Gaussians mixed so that the chromaticity is exactly
/// Planck's at T in [2200, 6500] K (widths at half height).
NmTable led_mix(Kelvin t);

/// Transmittance or reflectance over wavelength of a linear RGB color, each in [0, 1]: the spectral
/// basis, linear between its nodes and constant beyond them.
NmTable spectrum_over_nm(const Rgb& rgb);

/// A source behind a filter: their product, at each nanometer.
NmTable filtered(const NmTable& source, const NmTable& transmittance);
/// Luminous transmittance of a filter for a source: sum S t y / sum S y, in [0, 1].
double luminous_transmittance(const NmTable& source, const NmTable& transmittance);

/// A tungsten filament's color temperature at a share `level` in [0, 1] of its full light: flux
/// goes as the voltage to the power 3.4, temperature to 0.42 (IES Lighting Handbook), so T = T_full
/// level^(0.42 / 3.4), not below `warmest`.
Kelvin filament_temperature(Kelvin full, Kelvin warmest, double level);

}  // namespace jovilux
