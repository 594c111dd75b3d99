#include "jovilux/color/studio_transform.h"

#include "jovilux/color/chromaticity.h"

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

#ifdef JOVILUX_OCIO
#include <OpenColorIO/OpenColorIO.h>
#endif

namespace jovilux {

// The least linear gray that the transform shows as white, to half a code value of 8 bits: a
// bisection over stops, for a transform only tells its output.
double StudioTransform::white() const {
  constexpr double kMost = 65536, kSame = 0.5 / 255;
  constexpr int kSteps = 40;
  const auto shown = [this](double x) { return encoded(Rgb::Constant(x)).minCoeff(); };
  const double whitest = shown(kMost);
  double low = -10, high = std::log2(kMost);
  for (int i = 0; i < kSteps; ++i) {
    const double middle = 0.5 * (low + high);
    (shown(std::exp2(middle)) >= whitest - kSame ? high : low) = middle;
  }
  return std::exp2(high);
}

Eigen::Matrix3d rec2020_from_rec709() {
  Eigen::Matrix3d m;
  m << 0.6274, 0.3293, 0.0433, 0.0691, 0.9195, 0.0114, 0.0164, 0.0880, 0.8956;
  return m;
}

// The grid's nodes are spaced by a logarithm: dark values need more of them than highlights.
std::vector<float> baked(const StudioTransform& transform, int side) {
  const double end = std::log2(1 + kBakedSteepness * kBakedEnd);
  const auto value = [&](int i) { return (std::exp2(end * i / (side - 1)) - 1) / kBakedSteepness; };
  const Eigen::Matrix3d to_rec709 = rec2020_from_rec709().inverse();
  std::vector<float> out;
  out.reserve(3 * static_cast<std::size_t>(side * side * side));
  for (int b = 0; b < side; ++b) {
    for (int g = 0; g < side; ++g) {
      for (int r = 0; r < side; ++r) {
        const Rgb v = transform.encoded(to_rec709 * Rgb(value(r), value(g), value(b)));
        for (int c = 0; c < 3; ++c) {
          out.push_back(static_cast<float>(std::clamp(v[c], 0.0, 1.0)));
        }
      }
    }
  }
  return out;
}

#ifdef JOVILUX_OCIO

namespace {

namespace ocio = OCIO_NAMESPACE;

class OpenColorTransform final : public StudioTransform {
 public:
  OpenColorTransform(const StudioTransformSpec& spec,
                     ocio::ConstCPUProcessorRcPtr forward,
                     ocio::ConstCPUProcessorRcPtr back)
      : StudioTransform(spec), forward_(std::move(forward)), back_(std::move(back)) {}

  Rgb encoded(const Rgb& linear) const override { return through(forward_, linear); }
  std::optional<Rgb> linear(const Rgb& encoded) const override {
    return back_ ? std::optional(through(back_, encoded)) : std::nullopt;
  }

 private:
  static Rgb through(const ocio::ConstCPUProcessorRcPtr& processor, const Rgb& in) {
    float v[3] = {static_cast<float>(in[0]), static_cast<float>(in[1]), static_cast<float>(in[2])};
    processor->applyRGB(v);
    const auto finite = [](float x) { return std::isfinite(x) ? static_cast<double>(x) : 0.0; };
    return {finite(v[0]), finite(v[1]), finite(v[2])};
  }

  ocio::ConstCPUProcessorRcPtr forward_, back_;
};

template <class Count, class Name>
std::vector<std::string> names_of(const Count& count, const Name& name) {
  std::vector<std::string> out;
  for (int i = 0; i < count(); ++i) {
    out.emplace_back(name(i));
  }
  return out;
}

std::optional<StudioTransformFault> unknown(const std::string& key,
                                            const std::string& wanted,
                                            std::vector<std::string> known) {
  if (std::find(known.begin(), known.end(), wanted) != known.end()) {
    return std::nullopt;
  }
  return StudioTransformFault{key, "is not in the configuration", "", std::move(known)};
}

// Linear Rec.709, D65, to ACES2065-1: AP0 primaries and white of SMPTE ST 2065-1, by the adaptation
// of white balances.
ocio::MatrixTransformRcPtr to_aces() {
  const auto column = [](double x, double y) { return Eigen::Vector3d(x / y, 1, (1 - x - y) / y); };
  // As x : y : z, since the green primary has no luminance of 1 at a finite x.
  Eigen::Matrix3d primaries;
  primaries << 0.7347, 0, 0.0001, 0.2653, 1, -0.077, 0, 0, 1.0769;
  constexpr double kWhiteX = 0.32168, kWhiteY = 0.33767;
  const Eigen::Vector3d scale = primaries.inverse() * column(kWhiteX, kWhiteY);
  const Eigen::Matrix3d xyz_from_ap0 = primaries * scale.asDiagonal();
  const Eigen::Matrix3d m = xyz_from_ap0.inverse() *
                            adaptation(from_xy({0.3127, 0.3290}), from_xy({kWhiteX, kWhiteY})) *
                            xyz_from_rec709();
  double rows[16] = {};
  for (int r = 0; r < 3; ++r) {
    for (int c = 0; c < 3; ++c) {
      rows[4 * r + c] = m(r, c);
    }
  }
  rows[15] = 1;
  ocio::MatrixTransformRcPtr out = ocio::MatrixTransform::Create();
  out->setMatrix(rows);
  return out;
}

// The color space that pictures are handed over in, and the matrix before it.
struct Input {
  std::string space;
  ocio::MatrixTransformRcPtr before;
};
std::variant<Input, StudioTransformFault> input_of(const ocio::ConstConfigRcPtr& config,
                                                   const StudioTransformSpec& spec) {
  if (!spec.input.empty()) {
    if (auto fault =
            unknown("input",
                    spec.input,
                    names_of([&] { return config->getNumColorSpaces(); },
                             [&](int i) { return config->getColorSpaceNameByIndex(i); }))) {
      return *fault;
    }
    return Input{spec.input, nullptr};
  }
  if (const auto space = config->getColorSpace(ocio::ROLE_INTERCHANGE_SCENE)) {
    return Input{space->getName(), to_aces()};
  }
  return StudioTransformFault{"input",
                              "the configuration has no role aces_interchange",
                              "name its color space that is linear with Rec.709's primaries: "
                              "input = \"...\"",
                              {}};
}

ocio::ConstCPUProcessorRcPtr processor_of(const ocio::ConstConfigRcPtr& config,
                                          const ocio::ConstTransformRcPtr& transform,
                                          ocio::TransformDirection direction) {
  return config->getProcessor(transform, direction)->getDefaultCPUProcessor();
}

std::variant<std::shared_ptr<const StudioTransform>, StudioTransformFault> opened(
    StudioTransformSpec spec) {
  const ocio::ConstConfigRcPtr config = ocio::Config::CreateFromFile(spec.config.c_str());
  config->validate();
  if (spec.display.empty()) {
    spec.display = config->getDefaultDisplay();
  } else if (auto fault = unknown("display",
                                  spec.display,
                                  names_of([&] { return config->getNumDisplays(); },
                                           [&](int i) { return config->getDisplay(i); }))) {
    return *fault;
  }
  const char* const display = spec.display.c_str();
  if (spec.view.empty()) {
    spec.view = config->getDefaultView(display);
  } else if (auto fault = unknown("view",
                                  spec.view,
                                  names_of([&] { return config->getNumViews(display); },
                                           [&](int i) { return config->getView(display, i); }))) {
    return *fault;
  }
  if (!spec.look.empty()) {
    if (auto fault = unknown("look",
                             spec.look,
                             names_of([&] { return config->getNumLooks(); },
                                      [&](int i) { return config->getLookNameByIndex(i); }))) {
      return *fault;
    }
  }
  auto input = input_of(config, spec);
  if (const auto* fault = std::get_if<StudioTransformFault>(&input)) {
    return *fault;
  }
  const Input& from = std::get<Input>(input);
  ocio::GroupTransformRcPtr group = ocio::GroupTransform::Create();
  if (from.before) {
    group->appendTransform(from.before);
  }
  std::string space = from.space;
  if (!spec.look.empty()) {
    ocio::LookTransformRcPtr look = ocio::LookTransform::Create();
    look->setSrc(space.c_str());
    look->setDst(space.c_str());
    look->setLooks(spec.look.c_str());
    group->appendTransform(look);
  }
  ocio::DisplayViewTransformRcPtr view = ocio::DisplayViewTransform::Create();
  view->setSrc(space.c_str());
  view->setDisplay(display);
  view->setView(spec.view.c_str());
  view->setLooksBypass(!spec.look.empty());
  group->appendTransform(view);
  const auto forward = processor_of(config, group, ocio::TRANSFORM_DIR_FORWARD);
  ocio::ConstCPUProcessorRcPtr back;
  try {
    back = processor_of(config, group, ocio::TRANSFORM_DIR_INVERSE);
  } catch (const ocio::Exception&) {
    // A table without an inverse: views of it cannot be undone.
  }
  return std::make_shared<const OpenColorTransform>(spec, forward, back);
}

}  // namespace

bool StudioTransform::is_built_in() { return true; }

std::variant<std::shared_ptr<const StudioTransform>, StudioTransformFault> StudioTransform::open(
    const StudioTransformSpec& spec) {
  ocio::SetLoggingLevel(ocio::LOGGING_LEVEL_NONE);
  try {
    return opened(spec);
  } catch (const ocio::Exception& e) {
    return StudioTransformFault{"config", e.what(), "mend the configuration, or its path", {}};
  }
}

#else

bool StudioTransform::is_built_in() { return false; }

std::variant<std::shared_ptr<const StudioTransform>, StudioTransformFault> StudioTransform::open(
    const StudioTransformSpec&) {
  return StudioTransformFault{"config",
                              "this program was built without OpenColorIO",
                              "build it where libopencolorio-dev is installed, or leave transform "
                              "out",
                              {}};
}

#endif

}  // namespace jovilux
