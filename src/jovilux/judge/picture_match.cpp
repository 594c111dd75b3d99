#include "jovilux/judge/picture_match.h"

#include "jovilux/base/assert.h"
#include "jovilux/base/parallel.h"
#include "jovilux/judge/bounded_fit.h"

#include <Eigen/Core>
#include <algorithm>
#include <array>
#include <cmath>
#include <limits>

namespace jovilux {
namespace {

constexpr int kCells = 96;  // along the longer side: shapes stay, noise is averaged
// Groups of cells, whose scatter tells errors. Each is a part of the picture in one piece: errors
// of neighboring pixels cancel, which scattered cells would not show.
constexpr int kGroupsAcross = 8, kGroupsDown = 4, kGroups = kGroupsAcross * kGroupsDown;

// The normal equations of one group of cells and one channel.
struct Normal {
  Eigen::MatrixXd means, halves;  // M'M, D'D
  Eigen::VectorXd with_reference, with_its_halves;
  double squares = 0;  // of the reference

  explicit Normal(Eigen::Index n)
      : means(Eigen::MatrixXd::Zero(n, n)),
        halves(Eigen::MatrixXd::Zero(n, n)),
        with_reference(Eigen::VectorXd::Zero(n)),
        with_its_halves(Eigen::VectorXd::Zero(n)) {}

  Normal& operator+=(const Normal& o) {
    means += o.means;
    halves += o.halves;
    with_reference += o.with_reference;
    with_its_halves += o.with_its_halves;
    squares += o.squares;
    return *this;
  }
};

// A picture's cells, averaged over the pixels that the reference shows.
class Cells {
 public:
  Cells(const RenderedImage& image, const std::vector<bool>& usable)
      : width_(image.width),
        usable_(usable),
        step_(std::max(1, (std::max(image.width, image.height) + kCells - 1) / kCells)),
        across_((image.width + step_ - 1) / step_),
        down_((image.height + step_ - 1) / step_),
        counts_(mean_of([](std::size_t) { return 1.0; }, false)) {}

  std::size_t size() const { return static_cast<std::size_t>(across_) * down_; }
  int across() const { return across_; }
  int down() const { return down_; }
  double count(std::size_t cell) const { return counts_[cell]; }
  std::size_t group(std::size_t cell) const {
    const int x = static_cast<int>(cell) % across_, y = static_cast<int>(cell) / across_;
    return static_cast<std::size_t>(y * kGroupsDown / down_ * kGroupsAcross +
                                    x * kGroupsAcross / across_);
  }

  // Of a value of each pixel; 0 where no pixel of a cell is usable.
  template <class Fn>
  std::vector<double> mean_of(const Fn& value, bool over_count = true) const {
    std::vector<double> out(size());
    for (std::size_t i = 0; i < usable_.size(); ++i) {
      if (usable_[i]) {
        out[cell_of(i)] += value(i);
      }
    }
    for (std::size_t c = 0; over_count && c < out.size(); ++c) {
      out[c] = counts_[c] > 0 ? out[c] / counts_[c] : 0;
    }
    return out;
  }

 private:
  std::size_t cell_of(std::size_t pixel) const {
    const auto x = static_cast<int>(pixel % static_cast<std::size_t>(width_)),
               y = static_cast<int>(pixel / static_cast<std::size_t>(width_));
    return static_cast<std::size_t>(y / step_) * static_cast<std::size_t>(across_) +
           static_cast<std::size_t>(x / step_);
  }

  int width_;
  const std::vector<bool>& usable_;
  int step_, across_, down_;
  std::vector<double> counts_;
};

using Channels = std::array<std::vector<double>, 3>;

Channels channels_of(const Cells& cells, const std::vector<float>& rgb) {
  Channels out;
  for (std::size_t c = 0; c < 3 && !rgb.empty(); ++c) {
    out[c] = cells.mean_of([&](std::size_t i) { return static_cast<double>(rgb[3 * i + c]); });
  }
  return out;
}

// The mean of the cells around each: weights must not depend on the noise of the cell they weigh.
std::vector<double> smooth(const Cells& cells, const std::vector<double>& v) {
  constexpr int kAround = 2;
  std::vector<double> out(v.size());
  for (int y = 0; y < cells.down(); ++y) {
    for (int x = 0; x < cells.across(); ++x) {
      double sum = 0, count = 0;
      for (int b = std::max(0, y - kAround); b <= std::min(cells.down() - 1, y + kAround); ++b) {
        for (int a = std::max(0, x - kAround); a <= std::min(cells.across() - 1, x + kAround);
             ++a) {
          const std::size_t cell = static_cast<std::size_t>(b * cells.across() + a);
          if (cells.count(cell) > 0) {
            sum += v[cell];
            ++count;
          }
        }
      }
      out[static_cast<std::size_t>(y * cells.across() + x)] = count > 0 ? sum / count : 0;
    }
  }
  return out;
}

// Squared weights: a dark cell counts as much as a bright one, down to a tenth of the mean, as far
// as noise lets it.
std::vector<double> weights(const Cells& cells,
                            const Channels& reference,
                            const RenderedImage& image) {
  constexpr double kFloor = 0.1;
  // Layers and lights are never quite the reference's: this share of the brightness is taken to
  // differ beside the noise.
  constexpr double kModel = 0.05;
  std::vector<double> bright(cells.size());
  double mean = 0;
  for (std::size_t i = 0; i < bright.size(); ++i) {
    bright[i] = std::max({reference[0][i], reference[1][i], reference[2][i]});
    mean += bright[i] / static_cast<double>(bright.size());
  }
  bright = smooth(cells, bright);
  std::vector<double> variance(cells.size());
  if (!image.variance.empty()) {
    variance = smooth(cells, cells.mean_of([&](std::size_t i) {
      return static_cast<double>(image.variance[i]);
    }));
  }
  std::vector<double> out(cells.size());
  for (std::size_t i = 0; i < out.size(); ++i) {
    const double level = bright[i] + kFloor * mean,
                 noise = cells.count(i) > 0
                             ? variance[i] / independent_pixels(cells.count(i), false)
                             : 0;
    out[i] = cells.count(i) > 0 ? 1 / (level * level + noise / (kModel * kModel) + 1e-30) : 0;
  }
  return out;
}

// Of one channel, the equations of each group.
std::vector<Normal> normal_equations(const Cells& cells,
                                     const std::vector<double>& squared_weights,
                                     const std::vector<Channels>& layers,
                                     const std::vector<Channels>& halves,
                                     const Channels& reference,
                                     const Channels& reference_halves,
                                     std::size_t channel) {
  const auto n = static_cast<Eigen::Index>(layers.size());
  std::vector<Normal> out(kGroups, Normal(n));
  Eigen::VectorXd mean(n), half = Eigen::VectorXd::Zero(n);
  for (std::size_t i = 0; i < cells.size(); ++i) {
    const double w = squared_weights[i];
    if (!(w > 0)) {
      continue;
    }
    for (Eigen::Index l = 0; l < n; ++l) {
      mean[l] = layers[static_cast<std::size_t>(l)][channel][i];
      const std::vector<double>& h = halves[static_cast<std::size_t>(l)][channel];
      half[l] = h.empty() ? 0 : h[i];
    }
    const double b = reference[channel][i],
                 d = reference_halves[channel].empty() ? 0 : reference_halves[channel][i];
    Normal& g = out[cells.group(i)];
    g.means.selfadjointView<Eigen::Lower>().rankUpdate(mean, w);
    g.halves.selfadjointView<Eigen::Lower>().rankUpdate(half, w);
    g.with_reference += w * b * mean;
    g.with_its_halves += w * d * half;
    g.squares += w * b * b;
  }
  for (Normal& g : out) {
    g.means = Eigen::MatrixXd(g.means.selfadjointView<Eigen::Lower>());
    g.halves = Eigen::MatrixXd(g.halves.selfadjointView<Eigen::Lower>());
  }
  return out;
}

enum class Noise { kIndependent, kOfBothHalves, kShared };

// The normal equations that noise does not bias.
struct Equations {
  Eigen::MatrixXd G;
  Eigen::VectorXd g;
};
Equations unbiased(const Normal& normal, Noise noise) {
  Equations out{normal.means, normal.with_reference};
  if (noise != Noise::kShared) {
    out.G -= normal.halves;
  }
  if (noise == Noise::kOfBothHalves) {
    out.g -= normal.with_its_halves;
  }
  return out;
}

// What noise alone made negative, and levels that nothing tells, stay near what they are.
Eigen::VectorXd solve(const Equations& e, const Eigen::VectorXd& upper) {
  double least = 0;
  const Eigen::MatrixXd positive = made_positive(e.G, least);
  const Eigen::VectorXd ones = Eigen::VectorXd::Ones(e.G.rows()),
                        ridge = Eigen::VectorXd::Constant(e.G.rows(), 1e-2 * least);
  return bounded_quadratic(positive, e.g + (positive - e.G) * ones, upper, ridge);
}

// Standard errors of levels that are not at a bound, from the scatter of what each group of cells
// would have them be, with the groups' scores g - G x.
Eigen::VectorXd standard_errors(const std::vector<Normal>& groups,
                                const Eigen::MatrixXd& G,
                                const Eigen::VectorXd& levels,
                                const Eigen::VectorXd& upper,
                                Noise noise) {
  const Eigen::Index n = levels.size();
  std::vector<Eigen::Index> open;
  for (Eigen::Index i = 0; i < n; ++i) {
    if (levels[i] > 0 && levels[i] < upper[i]) {
      open.push_back(i);
    }
  }
  Eigen::VectorXd out = Eigen::VectorXd::Zero(n);
  if (open.empty()) {
    return out;
  }
  const auto m = static_cast<Eigen::Index>(open.size());
  Eigen::MatrixXd scatter = Eigen::MatrixXd::Zero(m, m);
  for (const Normal& group : groups) {
    const Equations e = unbiased(group, noise);
    const Eigen::VectorXd score = (e.g - e.G * levels)(open);
    scatter += score * score.transpose();
  }
  double least = 0;
  const Eigen::VectorXd of_open =
      sandwich_errors(made_positive(G(open, open), least), kGroups / (kGroups - 1.0) * scatter);
  for (Eigen::Index k = 0; k < m; ++k) {
    out[open[static_cast<std::size_t>(k)]] = of_open[k];
  }
  return out;
}

double left_over(const Normal& n, const Eigen::VectorXd& x) {
  return std::max(0.0, n.squares - 2 * x.dot(n.with_reference) + x.dot(n.means * x));
}

// Whether the reference was made of the picture's own samples: what is left is far below what the
// picture's noise makes of an independent one.
bool shares_noise(const Normal& all, const Eigen::VectorXd& plain) {
  constexpr double kFar = 0.5;
  return left_over(all, plain) < kFar * plain.dot(all.halves * plain);
}

struct Solved {
  Eigen::VectorXd levels, errors;
  double left = 0;
};

Solved solve_groups(const std::vector<Normal>& groups,
                    bool reference_has_halves,
                    const Eigen::VectorXd& upper) {
  Normal all(upper.size());
  for (const Normal& g : groups) {
    all += g;
  }
  const Noise noise = reference_has_halves ? Noise::kOfBothHalves
                      : shares_noise(all, solve(unbiased(all, Noise::kShared), upper))
                          ? Noise::kShared
                          : Noise::kIndependent;
  const Equations equations = unbiased(all, noise);
  Solved out;
  out.levels = solve(equations, upper);
  out.left = left_over(all, out.levels);
  out.errors = standard_errors(groups, equations.G, out.levels, upper, noise);
  return out;
}

// What lights at their bounds would be without bounds, where that is more.
void tell_beyond_full(const std::vector<Normal>& groups,
                      bool reference_has_halves,
                      const Solved& bounded,
                      const Eigen::VectorXd& upper,
                      std::vector<double>& beyond_full) {
  constexpr double kSure = 3, kLeast = 1.02, kAny = 1e6;
  beyond_full.assign(static_cast<std::size_t>(upper.size()), 0);
  if (!(bounded.levels.array() >= upper.array()).any()) {
    return;
  }
  const Solved free =
      solve_groups(groups, reference_has_halves, Eigen::VectorXd::Constant(upper.size(), kAny));
  for (Eigen::Index l = 0; l < upper.size(); ++l) {
    const bool at_bound = bounded.levels[l] >= upper[l];
    if (at_bound && free.levels[l] > kLeast * upper[l] &&
        free.levels[l] - kSure * free.errors[l] > upper[l]) {
      beyond_full[static_cast<std::size_t>(l)] = free.levels[l];
    }
  }
}

}  // namespace

RenderedImage unshown(const RenderedImage& picture, const View& look) {
  RenderedImage out = picture;
  const View& view = picture.shown_by ? *picture.shown_by : look;
  out.absolute = picture.shown_by.has_value();
  for (std::size_t i = 0; i < out.pixels(); ++i) {
    const auto absolute = view.absolute(picture.color(i));
    for (std::size_t c = 0; c < 3; ++c) {
      out.rgb[3 * i + c] = absolute ? static_cast<float>((*absolute)[static_cast<int>(c)])
                                    : std::numeric_limits<float>::quiet_NaN();
    }
  }
  return out;
}

namespace {

// A level that is not limited.
constexpr double kAnyLevel = 1e6;

// A reference without absolute numbers is taken to be as bright as this picture.
void match_brightness(const std::vector<Channels>& layers,
                      Channels& wanted,
                      Channels& wanted_halves) {
  double mine = 0, theirs = 0;
  for (std::size_t c = 0; c < 3; ++c) {
    for (std::size_t i = 0; i < wanted[c].size(); ++i) {
      theirs += wanted[c][i];
      for (const Channels& layer : layers) {
        mine += layer[c][i];
      }
    }
  }
  for (std::size_t c = 0; c < 3; ++c) {
    for (std::vector<double>* v : {&wanted[c], &wanted_halves[c]}) {
      for (double& x : *v) {
        x *= theirs > 0 ? mine / theirs : 1;
      }
    }
  }
}

// A factor for each light and channel; returns the squares that are left.
double match_tints(const std::array<std::vector<Normal>, 3>& groups,
                   bool known_halves,
                   std::vector<BalancedLight>& lights,
                   PictureMatch& out) {
  const auto n = static_cast<Eigen::Index>(lights.size());
  double left = 0;
  for (std::size_t c = 0; c < 3; ++c) {
    const Solved s = solve_groups(groups[c], known_halves, Eigen::VectorXd::Constant(n, kAnyLevel));
    for (std::size_t l = 0; l < lights.size(); ++l) {
      const auto i = static_cast<Eigen::Index>(l);
      lights[l].factor[static_cast<int>(c)] = s.levels[i];
      out.errors[l] = std::max(out.errors[l], s.errors[i]);
    }
    left += s.left;
  }
  return left;
}

// One factor for each light, up to its full level; returns the squares that are left.
double match_levels(std::array<std::vector<Normal>, 3>& groups,
                    bool known_halves,
                    std::vector<BalancedLight>& lights,
                    PictureMatch& out) {
  Eigen::VectorXd upper(static_cast<Eigen::Index>(lights.size()));
  for (std::size_t l = 0; l < lights.size(); ++l) {
    const double dimmer = lights[l].dimmer;
    upper[static_cast<Eigen::Index>(l)] = dimmer > 0 ? std::max(1.0, 1 / dimmer) : kAnyLevel;
  }
  for (int g = 0; g < kGroups; ++g) {
    groups[0][static_cast<std::size_t>(g)] += groups[1][static_cast<std::size_t>(g)];
    groups[0][static_cast<std::size_t>(g)] += groups[2][static_cast<std::size_t>(g)];
  }
  const Solved s = solve_groups(groups[0], known_halves, upper);
  for (std::size_t l = 0; l < lights.size(); ++l) {
    lights[l].times = s.levels[static_cast<Eigen::Index>(l)];
    out.errors[l] = s.errors[static_cast<Eigen::Index>(l)];
  }
  tell_beyond_full(groups[0], known_halves, s, upper, out.beyond_full);
  return s.left;
}

}  // namespace

PictureMatch match_picture(const RenderedImage& image,
                           const RenderedImage& reference,
                           bool tints,
                           std::vector<BalancedLight>& lights) {
  JOVILUX_ASSERT(image.width == reference.width && image.height == reference.height &&
                 lights.size() == image.layers.size());
  PictureMatch out;
  out.absolute = reference.absolute;
  std::vector<bool> usable(image.pixels());
  for (std::size_t i = 0; i < usable.size(); ++i) {
    usable[i] = std::isfinite(reference.luminance(i));
    out.clipped += usable[i] ? 0 : 1;
  }
  const Cells cells(image, usable);
  std::vector<Channels> layers(lights.size()), halves(lights.size());
  parallel_for(lights.size(), [&](std::size_t l) {
    layers[l] = channels_of(cells, image.layers[l].rgb);
    halves[l] = channels_of(cells, image.layers[l].half_difference);
  });
  Channels wanted = channels_of(cells, reference.rgb),
           wanted_halves = channels_of(cells, reference.half_difference);
  if (!reference.absolute) {
    match_brightness(layers, wanted, wanted_halves);
  }
  const std::vector<double> w = weights(cells, wanted, image);
  std::array<std::vector<Normal>, 3> groups;
  parallel_for(std::size_t{3}, [&](std::size_t c) {
    groups[c] = normal_equations(cells, w, layers, halves, wanted, wanted_halves, c);
  });
  const bool known_halves = !reference.half_difference.empty();
  double squares = 0;
  for (const auto& channel : groups) {
    for (const Normal& g : channel) {
      squares += g.squares;
    }
  }
  out.errors.assign(lights.size(), 0);
  const double left = tints ? match_tints(groups, known_halves, lights, out)
                            : match_levels(groups, known_halves, lights, out);
  out.residual = std::sqrt(left / std::max(1e-300, squares));
  return out;
}

}  // namespace jovilux
