#include "jovilux/judge/balance.h"

#include "jovilux/base/assert.h"
#include "jovilux/files/atomic_file.h"
#include "jovilux/files/exr.h"
#include "jovilux/judge/layer_scaling.h"
#include "jovilux/render/picture_files.h"

#include <Eigen/Dense>
#include <algorithm>
#include <array>
#include <cmath>
#include <filesystem>

#include <fmt/format.h>

namespace jovilux {

Eigen::VectorXd bounded_least_squares(const Eigen::MatrixXd& A,
                                      const Eigen::VectorXd& b,
                                      const Eigen::VectorXd& upper,
                                      const Eigen::VectorXd& ridge) {
  const Eigen::Index n = A.cols();
  Eigen::MatrixXd G = A.transpose() * A;
  G.diagonal() += ridge;
  const Eigen::VectorXd g = A.transpose() * b + ridge;
  // Active sets: what is free is solved for exactly; what leaves its bounds is held there, and let
  // go where the slope calls
  // it back, one at a time, so that no set comes twice.
  Eigen::VectorXd x = Eigen::VectorXd::Ones(n).cwiseMin(upper);
  std::vector<bool> held(static_cast<std::size_t>(n), false);
  for (Eigen::Index round = 0; round < 20 * n + 20; ++round) {
    std::vector<Eigen::Index> open;
    for (Eigen::Index i = 0; i < n; ++i) {
      if (!held[static_cast<std::size_t>(i)] && G(i, i) > 0) {
        open.push_back(i);
      }
    }
    const auto m = static_cast<Eigen::Index>(open.size());
    Eigen::VectorXd target = x;
    if (m > 0) {
      Eigen::MatrixXd part(m, m);
      Eigen::VectorXd right(m);
      for (Eigen::Index r = 0; r < m; ++r) {
        const Eigen::Index i = open[static_cast<std::size_t>(r)];
        right[r] = g[i] - G.row(i).dot(x);
        for (Eigen::Index c = 0; c < m; ++c) {
          const Eigen::Index k = open[static_cast<std::size_t>(c)];
          part(r, c) = G(i, k);
          right[r] += G(i, k) * x[k];
        }
      }
      const Eigen::VectorXd solved = part.completeOrthogonalDecomposition().solve(right);
      for (Eigen::Index r = 0; r < m; ++r) {
        target[open[static_cast<std::size_t>(r)]] = solved[r];
      }
    }
    // As far towards it as all stay within their bounds; the first that does not is held.
    double step = 1;
    Eigen::Index first = -1;
    for (const Eigen::Index i : open) {
      const double bound = target[i] < 0 ? 0 : target[i] > upper[i] ? upper[i] : target[i];
      if (bound != target[i]) {
        const double share = (bound - x[i]) / (target[i] - x[i]);
        if (share < step) {
          step = share;
          first = i;
        }
      }
    }
    x += step * (target - x);
    if (first >= 0) {
      x[first] = target[first] < 0 ? 0 : upper[first];
      held[static_cast<std::size_t>(first)] = true;
      continue;
    }
    const Eigen::VectorXd slope = G * x - g;
    Eigen::Index freed = -1;
    double steepest = 1e-12 * (1 + g.cwiseAbs().maxCoeff());
    for (Eigen::Index i = 0; i < n; ++i) {
      const double pull = !held[static_cast<std::size_t>(i)] ? 0 : x[i] <= 0 ? -slope[i] : slope[i];
      if (pull > steepest && upper[i] > 0) {
        steepest = pull;
        freed = i;
      }
    }
    if (freed < 0) {
      break;
    }
    held[static_cast<std::size_t>(freed)] = false;
  }
  return x;
}

std::vector<BalancedLight> balanced_lights(const RenderedImage& image, const Rig& rig) {
  std::vector<BalancedLight> out;
  for (const RenderedImage::Layer& layer : image.layers) {
    BalancedLight b;
    b.layer = layer.name;
    b.dimmer = dimmer_of_layer(rig, layer.name);
    out.push_back(std::move(b));
  }
  return out;
}

std::vector<std::string> balance_assignments(const Rig& rig,
                                             const std::vector<BalancedLight>& lights) {
  std::vector<std::string> out;
  constexpr double kSame = 1e-9;
  for (const BalancedLight& light : lights) {
    if (std::abs(light.times - 1) > kSame) {
      for (std::string& assignment : assignments_of_level(rig, light.layer, light.times)) {
        out.push_back(std::move(assignment));
      }
    }
    if (light.tint) {
      for (const std::string& address : addresses_of_layer(rig, light.layer, "tint")) {
        out.push_back(fmt::format("{}.tint=[{:.6g}, {:.6g}, {:.6g}]",
                                  address,
                                  (*light.tint)[0],
                                  (*light.tint)[1],
                                  (*light.tint)[2]));
      }
    }
  }
  return out;
}

void apply_balance(RenderedImage& image, const std::vector<BalancedLight>& lights) {
  JOVILUX_ASSERT(lights.size() == image.layers.size());
  if (lights.empty()) {
    return;
  }
  for (std::size_t l = 0; l < lights.size(); ++l) {
    const std::array<float, 3> f = {static_cast<float>(lights[l].factor[0]),
                                    static_cast<float>(lights[l].factor[1]),
                                    static_cast<float>(lights[l].factor[2])};
    std::vector<float>& layer = image.layers[l].rgb;
    for (std::size_t i = 0; i < layer.size(); ++i) {
      layer[i] *= f[i % 3];
    }
  }
  const bool unchanged = std::all_of(lights.begin(), lights.end(), [](const BalancedLight& b) {
    return b.factor == Rgb(Rgb::Ones());
  });
  if (unchanged) {
    return;  // the picture is the sum of layers in full precision; those of the file may be halves
  }
  double most = 0;
  for (const BalancedLight& l : lights) {
    most = std::max(most, l.factor.maxCoeff());
  }
  for (float& v : image.variance) {
    v *= static_cast<float>(most * most);
  }
  std::fill(image.rgb.begin(), image.rgb.end(), 0.0f);
  for (const RenderedImage::Layer& layer : image.layers) {
    for (std::size_t i = 0; i < image.rgb.size(); ++i) {
      image.rgb[i] += layer.rgb[i];
    }
  }
}

void save_balanced(const std::string& folder,
                   const RenderedImage& image,
                   const std::string& rig_text) {
  namespace fs = std::filesystem;
  const fs::path dir(folder);
  std::vector<ExrChannel> channels;
  const auto add = [&](const std::string& stem,
                       const std::vector<float>& rgb,
                       ExrChannel::Type type) {
    for (std::size_t c = 0; c < 3; ++c) {
      channels.push_back(
          {stem + "RGB"[c], type, [&image, &rgb, c](int y, float* out) {
             for (int x = 0; x < image.width; ++x) {
               out[x] =
                   rgb[3 * (static_cast<std::size_t>(y) * static_cast<std::size_t>(image.width) +
                            static_cast<std::size_t>(x)) +
                       c];
             }
           }});
    }
  };
  add("", image.rgb, ExrChannel::Type::kFloat);
  for (const RenderedImage::Layer& layer : image.layers) {
    add("light." + layer.name + ".", layer.rgb, ExrChannel::Type::kFloat);
  }
  if (!image.variance.empty()) {
    channels.push_back({image.denoised ? "error.V" : "variance.V",
                        ExrChannel::Type::kFloat,
                        [&image](int y, float* out) {
                          const auto row =
                              image.variance.begin() + static_cast<std::ptrdiff_t>(y) * image.width;
                          std::copy(row, row + image.width, out);
                        }});
  }
  const View view = image.shown();
  ExrHeader header;
  header.width = image.width;
  header.height = image.height;
  header.texts[kRigAttribute] = rig_text;
  if (image.denoised) {
    header.texts[kDenoisedAttribute] = "yes";
  }
  header.numbers[kEvAttribute] = static_cast<float>(view.ev());
  write_exr((dir / "image.exr").string(), header, channels);
  write_view((dir / "view.png").string(), view, image.bloom, image.rgb, image.width, image.height);
  write_text_file((dir / "rig.resolved.toml").string(), rig_text);
  std::error_code ec;
  for (const char* of_another : {"stats.json", kDenoisedPicture, kDenoisedView}) {
    fs::remove(dir / of_another, ec);
  }
}

double match_reference(const RenderedImage& image,
                       const RenderedImage& reference,
                       bool tints,
                       std::vector<BalancedLight>& lights) {
  JOVILUX_ASSERT(image.width == reference.width && image.height == reference.height &&
                 lights.size() == image.layers.size());
  constexpr int kWidth = 96, kHeight = 96;  // noise is averaged away, shapes stay
  const auto n = static_cast<Eigen::Index>(lights.size());
  const RenderedImage small = shrunk(reference, kWidth, kHeight);
  const auto rows = static_cast<Eigen::Index>(small.pixels());
  std::array<Eigen::MatrixXd, 3> A;
  std::array<Eigen::VectorXd, 3> b;
  for (std::size_t c = 0; c < 3; ++c) {
    A[c].resize(rows, n);
    b[c].resize(rows);
    for (Eigen::Index i = 0; i < rows; ++i) {
      b[c][i] = small.rgb[3 * static_cast<std::size_t>(i) + c];
    }
  }
  for (Eigen::Index l = 0; l < n; ++l) {
    RenderedImage layer;
    layer.width = image.width;
    layer.height = image.height;
    layer.rgb = image.layers[static_cast<std::size_t>(l)].rgb;
    const RenderedImage s = shrunk(layer, kWidth, kHeight);
    for (std::size_t c = 0; c < 3; ++c) {
      for (Eigen::Index i = 0; i < rows; ++i) {
        A[c](i, l) = s.rgb[3 * static_cast<std::size_t>(i) + c];
      }
    }
  }
  // A picture without luminances is taken to be as bright as this one.
  if (!reference.absolute) {
    double mine = 0, theirs = 0;
    for (std::size_t c = 0; c < 3; ++c) {
      mine += A[c].rowwise().sum().sum();
      theirs += b[c].sum();
    }
    for (auto& v : b) {
      v *= theirs > 0 ? mine / theirs : 1;
    }
  }
  // Dark places count as much as bright ones: each pixel is weighed by the reference's brightness
  // there and a floor.
  double mean = 0;
  for (const auto& v : b) {
    mean += v.mean() / 3;
  }
  for (Eigen::Index i = 0; i < rows; ++i) {
    const double w = 1 / (std::max({b[0][i], b[1][i], b[2][i]}) + 0.1 * mean + 1e-12);
    for (std::size_t c = 0; c < 3; ++c) {
      A[c].row(i) *= w;
      b[c][i] *= w;
    }
  }
  Eigen::VectorXd upper(n);
  for (Eigen::Index l = 0; l < n; ++l) {
    const double d = lights[static_cast<std::size_t>(l)].dimmer;
    upper[l] = d > 0 ? 1 / d : 1e6;
  }
  Eigen::MatrixXd all(3 * rows, n);
  Eigen::VectorXd want(3 * rows);
  for (Eigen::Index c = 0; c < 3; ++c) {
    all.middleRows(c * rows, rows) = A[static_cast<std::size_t>(c)];
    want.segment(c * rows, rows) = b[static_cast<std::size_t>(c)];
  }
  const Eigen::VectorXd ridge = Eigen::VectorXd::Constant(n, 1e-8 * static_cast<double>(rows));
  double left = 0;
  if (!tints) {
    const Eigen::VectorXd x = bounded_least_squares(all, want, upper, ridge);
    for (Eigen::Index l = 0; l < n; ++l) {
      lights[static_cast<std::size_t>(l)].times = x[l];
    }
    left = (all * x - want).squaredNorm();
  } else {
    for (std::size_t c = 0; c < 3; ++c) {
      const Eigen::VectorXd x =
          bounded_least_squares(A[c], b[c], Eigen::VectorXd::Constant(n, 1e6), ridge);
      for (Eigen::Index l = 0; l < n; ++l) {
        lights[static_cast<std::size_t>(l)].factor[static_cast<int>(c)] = x[l];
      }
      left += (A[c] * x - b[c]).squaredNorm();
    }
  }
  return std::sqrt(left / std::max(1e-300, want.squaredNorm()));
}

}  // namespace jovilux
