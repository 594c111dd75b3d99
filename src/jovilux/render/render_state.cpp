#include "jovilux/render/render_state.h"

#include "jovilux/base/text.h"
#include "jovilux/files/atomic_file.h"

#include <algorithm>
#include <bit>
#include <cmath>
#include <cstring>
#include <fstream>
#include <functional>

#include <fmt/format.h>
#include <zlib.h>

namespace jovilux {
namespace {

static_assert(std::endian::native == std::endian::little);

constexpr char kMagic[8] = {'j', 'v', 'x', 'f', 'i', 'l', 'm', '7'};

// CRC-32 over any number of bytes.
uLong checksum_with(uLong sum, const char* data, std::size_t size) {
  constexpr std::size_t kMost = std::size_t{1} << 30;  // zlib counts in 32 bits
  for (std::size_t at = 0; at < size; at += kMost) {
    sum = ::crc32(sum,
                  reinterpret_cast<const Bytef*>(data + at),
                  static_cast<uInt>(std::min(kMost, size - at)));
  }
  return sum;
}

// Bytes go one way or the other through one description of the format, so that both agree.
class Writer {
 public:
  explicit Writer(std::function<void(const char*, std::size_t)> out) : out_(std::move(out)) {}
  template <class T>
  void numbers(T* data, std::size_t count) {
    bytes(reinterpret_cast<const char*>(data), count * sizeof(T));
  }
  void text(std::string& s) {
    std::uint64_t size = s.size();
    numbers(&size, 1);
    bytes(s.data(), s.size());
  }
  template <class T>
  void list(std::vector<T>& v, std::uint64_t /*most*/) {
    std::uint64_t size = v.size();
    numbers(&size, 1);
    numbers(v.data(), v.size());
  }
  std::uint32_t checksum() const { return static_cast<std::uint32_t>(crc_); }
  bool good() const { return true; }

 private:
  void bytes(const char* data, std::size_t size) {
    crc_ = checksum_with(crc_, data, size);
    out_(data, size);
  }
  std::function<void(const char*, std::size_t)> out_;
  uLong crc_ = 0;
};

class Reader {
 public:
  /// `in` fills the bytes and says whether they were there.
  explicit Reader(std::function<bool(char*, std::size_t)> in) : in_(std::move(in)) {}
  template <class T>
  void numbers(T* data, std::size_t count) {
    if (good_ && count > 0) {
      good_ = in_(reinterpret_cast<char*>(data), count * sizeof(T));
      crc_ =
          checksum_with(crc_, reinterpret_cast<const char*>(data), good_ ? count * sizeof(T) : 0);
    }
  }
  void text(std::string& s) {
    constexpr std::uint64_t kLongest = 64U << 20;
    std::uint64_t size = 0;
    numbers(&size, 1);
    good_ = good_ && size <= kLongest;
    s.resize(good_ ? size : 0);
    numbers(s.data(), s.size());
  }
  template <class T>
  void list(std::vector<T>& v, std::uint64_t most) {
    std::uint64_t size = 0;
    numbers(&size, 1);
    good_ = good_ && size <= most;
    v.resize(good_ ? size : 0);
    numbers(v.data(), v.size());
  }
  std::uint32_t checksum() const { return static_cast<std::uint32_t>(crc_); }
  bool good() const { return good_; }

 private:
  std::function<bool(char*, std::size_t)> in_;
  uLong crc_ = 0;
  bool good_ = true;
};

template <class Stream, class T>
void one(Stream& s, T& value) {
  s.numbers(&value, 1);
}

template <class Stream>
void flag(Stream& s, bool& value) {
  std::uint8_t byte = value ? 1 : 0;
  s.numbers(&byte, 1);
  value = byte != 0;
}

template <class Stream>
void label_part(Stream& s, FilmLabel& label) {
  s.text(label.rig_text);
  s.text(label.camera);
  std::uint64_t layers = label.layers.size();
  one(s, layers);
  constexpr std::uint64_t kMostLayers = 1U << 20;
  if (!s.good() || layers > kMostLayers) {
    label.layers.clear();
    return;
  }
  label.layers.resize(layers);
  for (std::string& name : label.layers) {
    s.text(name);
  }
  one(s, label.share.index);
  one(s, label.share.count);
  flag(s, label.finished);
}

template <class Stream>
void progress_part(Stream& s, RenderState& state) {
  constexpr std::uint64_t kMost = 1U << 20;
  one(s, state.pass.begin);
  one(s, state.pass.mean);
  one(s, state.pass.weight);
  one(s, state.pass.round);
  s.list(state.pass.counts, state.film.pixels());
  flag(s, state.in_pass);
  one(s, state.taken);
  one(s, state.passes_done);
  one(s, state.noise);
  one(s, state.white);
  one(s, state.wall_s);
  one(s, state.cpu_s);
  one(s, state.threads);
  s.list(state.history, kMost);
  s.list(state.rounds, kMost);
  one(s, state.guide_rounds);
  one(s, state.guide_paths);
  one(s, state.guide_s);
}

// The tiles of a share, in their order.
template <class Stream>
void tiles_part(Stream& s, RenderState& state, Share share) {
  Film& film = state.film;
  const auto slots = static_cast<std::size_t>(film.slots());
  for (std::size_t tile = 0; tile < state.tiles() && s.good(); ++tile) {
    if (!share.holds(tile)) {
      continue;
    }
    one(s, state.tile_done[tile]);
    TileTally& t = state.tallies[tile];
    for (std::uint64_t* count : {&t.rays.camera,
                                 &t.rays.path,
                                 &t.rays.shadow,
                                 &t.rays.march.marches,
                                 &t.rays.march.steps,
                                 &t.rays.march.exhausted,
                                 &t.rays.media_steps,
                                 &t.rays.query_ns}) {
      one(s, *count);
    }
    for (std::vector<double>* sums : {&t.light_variance,
                                      &t.light_noise,
                                      &t.slot_variance,
                                      &t.slot_noise,
                                      &t.clamped,
                                      &t.not_finite,
                                      &t.roughened}) {
      s.numbers(sums->data(), sums->size());
    }
    const int x0 = static_cast<int>(tile) % state.tiles_across() * kTile,
              y0 = static_cast<int>(tile) / state.tiles_across() * kTile;
    const auto across = static_cast<std::size_t>(std::min(kTile, film.width() - x0));
    for (int y = y0; y < std::min(film.height(), y0 + kTile); ++y) {
      const std::size_t first = film.pixel(x0, y);
      s.numbers(film.xyz(first), across * slots * 3 * kHalves);
      s.numbers(film.batch(first), across * kBatches);
      s.numbers(film.guide(first), across * Film::kGuides);
      s.numbers(&film.weight(first), across);
      s.numbers(&film.taken(first), across);
      s.numbers(&film.object(first), across);
    }
  }
}

Problem fault(const std::string& path, std::string text, std::string hint = "") {
  return {Severity::kError, "bad-film", {path, 0, 0}, "", std::move(text), std::move(hint)};
}

// Whether the last four bytes are the checksum of those between the magic and them.
bool checksum_holds(std::ifstream& in) {
  in.seekg(0, std::ios::end);
  const std::streamoff size = in.tellg();
  constexpr std::streamoff kAround = sizeof kMagic + sizeof(std::uint32_t);
  if (size < kAround) {
    return false;
  }
  in.seekg(sizeof kMagic);
  std::vector<char> block(1 << 20);
  uLong sum = 0;
  for (std::streamoff left = size - kAround; left > 0;) {
    const auto count = std::min<std::streamoff>(left, static_cast<std::streamoff>(block.size()));
    if (!in.read(block.data(), count)) {
      return false;
    }
    sum = checksum_with(sum, block.data(), static_cast<std::size_t>(count));
    left -= count;
  }
  std::uint32_t stored = 0;
  return in.read(reinterpret_cast<char*>(&stored), sizeof stored) &&
         stored == static_cast<std::uint32_t>(sum);
}

// Opened, its first bytes read. The checksum comes first: no memory for what damaged sizes claim.
Result<std::ifstream> open_film(const std::string& path) {
  std::ifstream in(path, std::ios::binary);
  char magic[sizeof kMagic] = {};
  if (!in) {
    return Problem{Severity::kError, "missing-file", {path, 0, 0}, "", "file not found", ""};
  }
  if (!in.read(magic, sizeof magic) || std::memcmp(magic, kMagic, sizeof magic) != 0) {
    return fault(path, "is no film file of this version");
  }
  if (!checksum_holds(in)) {
    return fault(path, "is cut short or damaged", "remove it and render that part again");
  }
  in.clear();
  in.seekg(sizeof kMagic);
  return in;
}

Reader reader_of(std::ifstream& in) {
  return Reader([&in](char* data, std::size_t size) {
    return static_cast<bool>(in.read(data, static_cast<std::streamsize>(size)));
  });
}

// Sums of light are finite and no less than 0, but for rounding; one half alone may be, by what
// SharedSamples take off.
// A checksum made right again proves nothing of what it covers.
bool sound(const Film& film) {
  const auto fine = [](const float* v, std::size_t count, std::size_t step) {
    float sum = 0, sizes = 0;
    for (std::size_t k = 0; k < count; ++k) {
      sum += v[k * step];
      sizes += std::abs(v[k * step]);
    }
    return std::isfinite(sizes) && sum >= -1e-4f * sizes;
  };
  const auto each = static_cast<std::size_t>(film.slots()) * 3;
  for (std::size_t i = 0; i < film.pixels(); ++i) {
    const float* guide = film.guide(i);
    bool is_sound =
        fine(film.batch(i), kBatches, 1) &&
        std::all_of(guide, guide + Film::kGuides, [](float x) { return !std::isnan(x); });
    for (std::size_t c = 0; c < each; ++c) {
      is_sound = is_sound && fine(film.xyz(i) + c, kHalves, each);
    }
    if (!is_sound) {
      return false;
    }
  }
  return true;
}

bool sound(const FilmLabel& label) {
  return label.share.count >= 1 && label.share.index >= 0 && label.share.index < label.share.count;
}

// Adds a share's history to that of the shares joined before, for the moments that all have: the
// tiles of shares lie interleaved, so that the mean of their percentiles, weighed by tiles, stands
// for the picture's.
void join_history(RenderState& state, const RenderState& share_state, Share share) {
  double joined = 0, added = 0;  // tiles
  for (std::size_t tile = 0; tile < state.tiles(); ++tile) {
    const std::size_t x = tile % static_cast<std::size_t>(state.tiles_across()) * kTile,
                      y = tile / static_cast<std::size_t>(state.tiles_across()) * kTile;
    joined += state.film.taken(state.film.pixel(static_cast<int>(x), static_cast<int>(y))) > 0;
    added += share.holds(tile) ? 1 : 0;
  }
  if (joined == 0) {
    state.history = share_state.history;
    return;
  }
  const double of_joined = joined / (joined + added), of_added = 1 - of_joined;
  std::vector<NoiseMoment> both;
  for (const NoiseMoment& before : state.history) {
    for (const NoiseMoment& own : share_state.history) {
      if (own.samples == before.samples) {
        both.push_back({before.samples,
                        before.seconds + own.seconds,
                        of_joined * before.median + of_added * own.median,
                        of_joined * before.p95 + of_added * own.p95});
      }
    }
  }
  state.history = std::move(both);
}

}  // namespace

void TileTally::add(const TileTally& more) {
  rays += more.rays;
  const auto sum = [](std::vector<double>& to, const std::vector<double>& from) {
    for (std::size_t i = 0; i < to.size(); ++i) {
      to[i] += from[i];
    }
  };
  sum(light_variance, more.light_variance);
  sum(light_noise, more.light_noise);
  sum(slot_variance, more.slot_variance);
  sum(slot_noise, more.slot_noise);
  sum(clamped, more.clamped);
  sum(roughened, more.roughened);
  if (not_finite[0] == 0) {
    not_finite = more.not_finite;
  } else {
    not_finite[0] += more.not_finite[0];
  }
}

RenderState::RenderState(int width, int height, std::size_t layers, int parts)
    : film(width, height, static_cast<int>(layers), parts) {
  tallies.assign(static_cast<std::size_t>(tiles_across()) * ((height + kTile - 1) / kTile),
                 TileTally(layers, layers * static_cast<std::size_t>(parts)));
  tile_done.assign(tallies.size(), 0);
}

void save_state(const std::string& path, const FilmLabel& label, const RenderState& state) {
  AtomicFile file(path);
  file.write(kMagic, sizeof kMagic);
  Writer w([&file](const char* data, std::size_t size) { file.write(data, size); });
  // The writer only reads; the one description of the format serves both ways.
  auto& s = const_cast<RenderState&>(state);
  label_part(w, const_cast<FilmLabel&>(label));
  progress_part(w, s);
  tiles_part(w, s, label.share);
  const std::uint32_t sum = w.checksum();
  file.write(&sum, sizeof sum);
  file.commit();
}

Result<FilmLabel> film_label(const std::string& path) {
  auto in = open_film(path);
  if (!in) {
    return in.problems();
  }
  Reader r = reader_of(*in);
  FilmLabel label;
  label_part(r, label);
  if (!r.good() || !sound(label)) {
    return fault(path, "is cut short or damaged", "render the slice again");
  }
  return label;
}

Result<FilmLabel> load_state(const std::string& path,
                             const FilmLabel& expected,
                             RenderState& state) {
  auto in = open_film(path);
  if (!in) {
    return in.problems();
  }
  Reader r = reader_of(*in);
  FilmLabel label;
  label_part(r, label);
  if (!r.good() || !sound(label)) {
    return fault(path, "is cut short or damaged", "remove it and render again");
  }
  if (label.rig_text != expected.rig_text || label.camera != expected.camera ||
      label.layers != expected.layers) {
    return fault(path,
                 label.camera != expected.camera
                     ? fmt::format("is of camera \"{}\"", printable(label.camera))
                     : "is of another rig, or of other settings",
                 "render without --resume to begin anew");
  }
  RenderState read(state.film.width(),
                   state.film.height(),
                   static_cast<std::size_t>(state.film.layers()),
                   state.film.parts());
  progress_part(r, read);
  const bool counts_fit = read.pass.counts.empty() || read.pass.counts.size() == read.film.pixels();
  tiles_part(r, read, label.share);
  const std::uint32_t sum = r.checksum();
  std::uint32_t stored = 0;
  if (!r.good() || !counts_fit || read.taken < 0 || read.passes_done < 0 ||
      !in->read(reinterpret_cast<char*>(&stored), sizeof stored) || stored != sum) {
    return fault(path, "is cut short or damaged", "remove it and render again");
  }
  if (!sound(read.film)) {
    return fault(path, "holds sums that no render has", "remove it and render that part again");
  }
  // Of other shares nothing is known yet, or what was read of them.
  if (label.share.whole()) {
    state = std::move(read);
    return label;
  }
  join_history(state, read, label.share);
  if (!unpack_tiles(packed_tiles(read, label.share), label.share, state)) {
    return fault(path, "holds tiles of another size", "remove it and render again");
  }
  state.pass = std::move(read.pass);
  state.in_pass = read.in_pass;
  state.taken = read.taken;
  state.passes_done = read.passes_done;
  state.noise = read.noise;
  state.white = read.white;
  state.wall_s += read.wall_s;
  state.cpu_s += read.cpu_s;
  state.threads = std::max(state.threads, read.threads);
  state.rounds = std::move(read.rounds);
  return label;
}

// Tiles as bytes, for messages between processes: in the file's own form.
std::string packed_tiles(const RenderState& state, Share share) {
  std::string out;
  Writer w([&out](const char* data, std::size_t size) { out.append(data, size); });
  tiles_part(w, const_cast<RenderState&>(state), share);
  return out;
}

bool unpack_tiles(const std::string& bytes, Share share, RenderState& state) {
  std::size_t expected = 0, at = 0;
  Writer count([&expected](const char*, std::size_t size) { expected += size; });
  tiles_part(count, state, share);
  if (bytes.size() != expected) {
    return false;  // cut short on its way: nothing of it is taken
  }
  Reader r([&](char* data, std::size_t size) {
    if (bytes.size() - at < size) {
      return false;
    }
    std::memcpy(data, bytes.data() + at, size);
    at += size;
    return true;
  });
  tiles_part(r, state, share);
  return true;
}

}  // namespace jovilux
