// Film files, going on after a stop, shares, and the moments of an exposure.
#include "jovilux/render/render_state.h"

#include "jovilux/render/exposure_moments.h"
#include "jovilux/render/renderer.h"

#include <atomic>
#include <cmath>
#include <fstream>

#include "tests/support/program.h"
#include "tests/support/rigs.h"
#include "tests/support/statistics.h"
#include <catch2/catch.hpp>

using namespace jovilux;
using jovilux::test::rig_of;
using jovilux::test::TemporaryFolder;

namespace {

const std::string kRoomForRenderState = R"(
[[camera]]
name = "c"
at = [0, -4, 1.5]
look_at = [0, 0, 0.7]
[[object]]
name = "floor"
shape = { kind = "plane" }
[[object]]
name = "ball"
shape = { kind = "sphere", radius = 0.5 }
at = [0, 0, 0.5]
material = "glass"
[[material]]
name = "glass"
kind = "glass"
[[light]]
name = "lamp"
kind = "sphere"
at = [1, -1, 2]
radius = 0.1
output = "800 lm"
[[light]]
name = "panel"
kind = "rect"
size = [1, 1]
at = [-2, 0, 2]
aim = [0, 0, 0.5]
output = "900 lm"
[render]
size = [70, 40]
samples = 40
bounces = 3
layers = "lights+parts"
)";

bool same(const Film& a, const Film& b) {
  bool equal = true;
  for (std::size_t i = 0; i < a.pixels(); ++i) {
    for (int k = 0; k < a.slots() * 3 * kHalves; ++k) {
      equal = equal && a.xyz(i)[k] == b.xyz(i)[k];
    }
    for (int k = 0; k < Film::kGuides; ++k) {
      equal = equal && a.guide(i)[k] == b.guide(i)[k];
    }
    equal = equal && a.batch_variance(i) == b.batch_variance(i) && a.taken(i) == b.taken(i) &&
            a.object(i) == b.object(i);
  }
  return equal;
}

FilmLabel label_of(const Rig& rig, const Scene& scene, Share share = {}) {
  return {to_toml(rig.document), "c", scene.layers, share, false};
}
RenderState empty_state(const Rig& rig, const Scene& scene) {
  return {rig.render.width, rig.render.height, scene.layers.size(), parts_of(rig)};
}

}  // namespace

TEST_CASE("a render that stops anywhere, is kept and goes on, ends with the same bits",
          "[render][resume]") {
  const TemporaryFolder dir;
  // Each part learns anew: the many short ones go without.
  struct Stops {
    const char* render;
    std::vector<int> after;
  };
  for (const auto& [more, stops_after] : {Stops{"guiding = false\n", {1, 7}},
                                          Stops{"", {30, 155}},
                                          Stops{"guiding = false\nnoise = 0.08\n", {1, 7}},
                                          Stops{"noise = 0.08\n", {61}}}) {
    const Rig rig = rig_of(kRoomForRenderState + more);
    const auto scene = prepare_scene(rig);
    REQUIRE(scene);
    const Render whole = render(rig, *scene, {});
    for (const int stop_after : stops_after) {
      INFO(more << stop_after);
      RenderState state = empty_state(rig, *scene);
      int parts = 0;
      Render part{state, {}};
      // Stops again and again, each time after so many questions.
      for (;; ++parts) {
        REQUIRE(parts < 1000);
        std::atomic<int> asked{0};
        RenderOptions options;
        options.threads = 1 + parts % 2;
        options.stop = [&] { return ++asked > 40 * stop_after; };
        part = render_on(rig, *scene, options, std::move(state));
        if (part.stats.stopped_by != StoppedBy::kSignal) {
          break;
        }
        save_state(dir.path("f.part"), label_of(rig, *scene), part.state);
        state = empty_state(rig, *scene);
        REQUIRE(load_state(dir.path("f.part"), label_of(rig, *scene), state));
      }
      CHECK((parts > 0 || stop_after > 10));
      CHECK(same(whole.film(), part.film()));
      CHECK(part.stats.rays.shadow == whole.stats.rays.shadow);
      CHECK(part.stats.lights[0].noise == whole.stats.lights[0].noise);
      CHECK(part.stats.noise.p95 == whole.stats.noise.p95);
      CHECK(part.stats.history.size() == whole.stats.history.size());
    }
  }
}

TEST_CASE("checkpoints are whole: each one goes on to the same bits", "[render][resume]") {
  const TemporaryFolder dir;
  const Rig rig = rig_of(kRoomForRenderState);
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  for (const int threads : {1, 2}) {
    // Each tile that is finished may write one; with two threads some are left out while one is
    // written.
    std::vector<std::string> kept;
    int asked = 0;
    RenderOptions options;
    options.threads = threads;
    options.checkpoint_every = 0;
    options.checkpoint = [&](const RenderState& s) {
      if (asked++ % 4 == 0) {
        kept.push_back(dir.path("c" + std::to_string(kept.size())));
        save_state(kept.back(), label_of(rig, *scene), s);
      }
    };
    const Render whole = render(rig, *scene, options);
    REQUIRE(kept.size() > (threads == 1 ? 15 : 1));
    for (const std::size_t k :
         {std::size_t{0}, kept.size() / 3, kept.size() / 2, kept.size() - 1}) {
      RenderState state = empty_state(rig, *scene);
      REQUIRE(load_state(kept[k], label_of(rig, *scene), state));
      CHECK(same(whole.film(), render_on(rig, *scene, {}, std::move(state)).film()));
    }
  }
}

TEST_CASE("shares joined are one render, so are processes that exchange their tiles",
          "[render][share]") {
  const TemporaryFolder dir;
  const Rig rig = rig_of(kRoomForRenderState);
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  const Render whole = render(rig, *scene, {});
  for (const int count : {2, 9}) {
    RenderState joined = empty_state(rig, *scene);
    for (int i = count - 1; i >= 0; --i) {  // in any order
      RenderOptions options;
      options.share = {i, count};
      const Render part = render(rig, *scene, options);
      const std::string file = dir.path("share");
      FilmLabel label = label_of(rig, *scene, options.share);
      label.finished = true;
      save_state(file, label, part.state);
      const auto read = load_state(file, label_of(rig, *scene), joined);
      REQUIRE(read);
      CHECK(read->finished);
      CHECK(read->share.index == i);
    }
    CHECK(same(whole.film(), joined.film));
    CHECK(stats_of(rig, 0, scene->layers, joined).rays.shadow == whole.stats.rays.shadow);
  }
}

TEST_CASE("tiles that arrive cut short, or with more than they hold, are not taken", "[render]") {
  const Share share{1, 2};
  RenderState sent(40, 24, 2, 1), received(40, 24, 2, 1);
  for (std::size_t tile = 0; tile < sent.tiles(); ++tile) {
    sent.tallies[tile].light_noise[0] = 3;
  }
  const std::string whole = packed_tiles(sent, share), before = packed_tiles(received, share);
  for (const std::size_t size :
       {std::size_t{0}, std::size_t{1}, whole.size() / 2, whole.size() - 1}) {
    CHECK_FALSE(unpack_tiles(whole.substr(0, size), share, received));
  }
  CHECK_FALSE(unpack_tiles(whole + "x", share, received));
  CHECK(packed_tiles(received, share) == before);
  CHECK(unpack_tiles(whole, share, received));
  CHECK(packed_tiles(received, share) == whole);
  CHECK(received.tallies[1].light_noise[0] == 3);
  CHECK(received.tallies[0].light_noise[0] == 0);  // of the other share
}

TEST_CASE("a film file that is damaged, cut short or of another rig is refused",
          "[render][resume]") {
  const TemporaryFolder dir;
  const Rig rig = rig_of(kRoomForRenderState + "[look]\nexposure='EV 3'\n");
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  const Render whole = render(rig, *scene, {});
  const std::string file = dir.path("f.part");
  save_state(file, label_of(rig, *scene), whole.state);
  const std::string bytes = dir.read("f.part");
  const auto refused = [&](const std::string& content) {
    dir.write("bad.part", content);
    RenderState state = empty_state(rig, *scene);
    return !load_state(dir.path("bad.part"), label_of(rig, *scene), state) && state.taken == 0 &&
           state.film.taken(0) == 0;
  };
  CHECK_FALSE(refused(bytes));
  for (std::size_t at = 3; at < bytes.size(); at += bytes.size() / 97) {
    std::string damaged = bytes;
    damaged[at] = static_cast<char>(damaged[at] ^ 0x41);
    INFO(at);
    CHECK(refused(damaged));
  }
  for (const std::size_t length :
       {std::size_t{0}, std::size_t{5}, std::size_t{40}, bytes.size() / 2, bytes.size() - 1}) {
    CHECK(refused(bytes.substr(0, length)));
  }
  RenderState state = empty_state(rig, *scene);
  FilmLabel other = label_of(rig, *scene);
  other.rig_text += "# another\n";
  const auto mistaken = load_state(file, other, state);
  REQUIRE_FALSE(mistaken);
  CHECK(to_string(mistaken.problems()[0]).find("another rig") != std::string::npos);
  CHECK_FALSE(load_state(dir.path("missing.part"), other, state));
}

TEST_CASE("a still rig has no moments, what moves is spread over the shutter",
          "[render][moments]") {
  const std::string time = "[time]\nframes=[1,2]\nrate=1\nshutter=1\n";
  const Rig still = rig_of(kRoomForRenderState + time);
  const auto scene = prepare_scene(still);
  REQUIRE(scene);
  CHECK(exposure_moments(still, *scene, 0)->moments.empty());
  // A level alone needs none: its mean is known.
  std::string dims = kRoomForRenderState + time;
  dims.replace(dims.find("output = \"800 lm\""),
               17,
               "output = \"800 lm\"\ndimmer={ keys=[[-1,0],[1,1]] }\n");
  const Rig dimmed = rig_of(dims);
  CHECK(exposure_moments(dimmed, *prepare_scene(dimmed), 0)->moments.empty());
  CHECK(dimmed.lights[0].dimmed() == Approx(0.5));
}

TEST_CASE("a picture of moving lights, shapes and camera is the mean of still ones",
          "[render][moments]") {
  // Everything moves: the picture against the mean over as many stills as there are moments, pixel
  // block by pixel block.
  const std::string text = R"(
[time]
frames = [1, 1]
rate = 1
shutter = 1
[[camera]]
name = "c"
at = { keys = [["-1 s", [-0.4, -4, 1.5]], ["1 s", [0.4, -4, 1.5]]] }
look_at = [0, 0, 0.7]
[[object]]
name = "floor"
shape = { kind = "plane" }
[[object]]
name = "ball"
shape = { kind = "sphere", radius = 0.5 }
at = { keys = [["-1 s", [-0.5, 0, 0.5]], ["1 s", [0.5, 0, 0.7]]] }
[[light]]
name = "lamp"
kind = "sphere"
at = { keys = [["-1 s", [1.5, -1, 2]], ["1 s", [0.5, -1, 2.4]]] }
radius = 0.1
output = "800 lm"
dimmer = { keys = [["-0.5 s", 0.2], ["0.5 s", 1]] }
[[light]]
name = "late"
kind = "point"
at = [-1, 0, 1]
output = { keys = [["-1 s", "0 lm"], ["0.1 s", "0 lm"], ["1 s", "300 lm"]] }
[render]
size = [48, 32]
samples = 512
bounces = 2
)";
  const Rig rig = rig_of(text);
  const auto scene = prepare_scene(rig);
  REQUIRE(scene);
  auto exposure = exposure_moments(rig, *scene, 0);
  REQUIRE(exposure);
  REQUIRE(exposure->moments.size() == kExposureMoments);
  CHECK(exposure->layers == std::vector<std::string>{"lamp", "late"});
  RenderOptions options;
  options.moments = exposure->moments;
  const Render moving = render_on(
      rig, *scene, options, {rig.render.width, rig.render.height, exposure->layers.size(), 1});
  constexpr int kStills = 64;  // at other moments than the exposure's
  const std::size_t pixels = moving.film().pixels();
  std::vector<double> mean(pixels), variance(pixels);
  for (int s = 0; s < kStills; ++s) {
    Rig part = rig;
    DocumentNode none;
    none.value = 0.0;
    REQUIRE(set_at_address(part.document, "time.shutter", none).empty());
    auto there = rig_at(part, (s + 0.5) / kStills - 0.5);
    REQUIRE(there);
    there->render.samples = 64;
    there->render.guiding = there->render.light_tracing =
        false;  // learning takes longer than the samples
    there->render.seed = static_cast<std::uint32_t>(100 + s);
    const auto now = prepare_scene(*there);
    REQUIRE(now);
    const Render r = render(*there, *now, {});
    const FilmVariance told = film_variance(r.film());
    for (std::size_t i = 0; i < pixels; ++i) {
      mean[i] += r.film().luminance(i) / kStills;
      variance[i] += told.whole[i] / (kStills * kStills);
    }
  }
  // Over blocks of 4 x 4 pixels, so that what is left of the steps between moments is small.
  const FilmVariance of_moving = film_variance(moving.film());
  double worst = 0, moved = 0, difference = 0, total = 0;
  for (int y = 0; y < 32; y += 4) {
    for (int x = 0; x < 48; x += 4) {
      double a = 0, b = 0, v = 0;
      for (int k = 0; k < 16; ++k) {
        const std::size_t i = moving.film().pixel(x + k % 4, y + k / 4);
        a += moving.film().luminance(i);
        b += mean[i];
        v += of_moving.whole[i] + variance[i];
      }
      worst = std::max(worst, std::abs(a - b) / (std::sqrt(v) + 0.02 * b));
      difference += a - b;
      total += b;
    }
  }
  CHECK(worst < 5);
  CHECK(std::abs(difference) < 0.01 * total);
  // The same exposure held still is another picture.
  const Render frozen = render(rig, *scene, {});
  for (std::size_t i = 0; i < pixels; ++i) {
    moved += std::abs(frozen.film().luminance(i) - mean[i]);
  }
  CHECK(moved > 0.02 * total);
}

TEST_CASE("a film in a file holds what one in memory does, and goes on holding it when it rests",
          "[render][film]") {
  Film memory(37, 50, 3, 1, false), file(37, 50, 3, 1, true);
  CHECK_FALSE(memory.in_file());
  CHECK(file.in_file());
  const auto fill = [](Film& film, float scale) {
    for (std::size_t i = 0; i < film.pixels(); ++i) {
      for (int k = 0; k < 9; ++k) {
        film.xyz(i)[k] += scale * static_cast<float>(i * 9 + static_cast<std::size_t>(k));
      }
      film.batch(i)[i % kBatches] += scale;
      film.weight(i) += 2;
      film.taken(i) += 2;
    }
  };
  fill(memory, 1);
  fill(file, 1);
  file.rest(0, 12);
  memory.rest(0, 12);  // no matter: nothing happens to it
  fill(memory, 0.5f);
  fill(file, 0.5f);
  file.rest(5, 1);
  std::size_t visited = 0;
  each_pixel(file, [&](std::size_t i) {
    ++visited;
    for (int s = 0; s < 3; ++s) {
      CHECK(file.slot_mean(i, s) == memory.slot_mean(i, s));
    }
    CHECK(file.luminance(i) == memory.luminance(i));
    CHECK(file.taken(i) == 4);
  });
  CHECK(visited == memory.pixels());
  const Film copy = file;
  CHECK(copy.slot_mean(1849, 2) == memory.slot_mean(1849, 2));
}
