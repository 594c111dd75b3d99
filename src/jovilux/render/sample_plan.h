#pragma once

#include "jovilux/base/statistics.h"

#include <cstdint>
#include <vector>

namespace jovilux {

/// How a render to a noise target spends its samples: in rounds, each with a mean number of samples
/// a pixel that becomes its weight, shared out by what the rounds before told.
///
/// Unbiased: a round draws samples of its own, so that its mean expects the true value whatever
/// made it take that many, and its weight is the same for every pixel, so that no pixel's value
/// decides how much it counts.
///
/// Within a time limit the pixels' own sequences go on instead, each as far as the noise around it
/// asks (deviation_around, share_more), and a sample counts like any other.

/// How many samples each pixel needs, up to a common factor: the relative variance of a sample, cut
/// at its 95th percentile, for the target lets 5 % be noisier, and averaged over 5 x 5 pixels
/// (a pixel's eight batches tell it to some 50 % only; cut first, a firefly does not make its
/// neighbors look noisy).
///
///     noise    [pixel], each pixel's standard error over its level
///     samples  [pixel], that it was measured with
std::vector<float> sample_need(int width,
                               int height,
                               const std::vector<float>& noise,
                               const std::vector<float>& samples);

/// The relative standard deviation of a pixel's sample, from the pixels around it within 5 x 5 and
/// not from itself: what a pixel's own samples are decides nothing of how many more it gets, so
/// that its plain mean stays unbiased. Cut at the 999th thousandth, and drawn towards the mean of
/// all as far as lowers the error that pixels' own variances would then have (leave-one-out
/// cross-validation): noise that comes as rare lumps says nothing of the pixels beside it.
/// Arguments as of sample_need().
std::vector<float> deviation_around(int width,
                                    int height,
                                    const std::vector<float>& noise,
                                    const std::vector<float>& samples);

/// How many more samples make `taken` as near as possible to numbers in proportion to `deviation`,
/// which give the least mean squared error for their sum (Neyman's allocation): multiples of
/// kBatches, 0 where a pixel has enough; their mean is `more` within one multiple.
/// Source: J. Neyman, "On the Two Different Aspects of the Representative Method", J. R. Stat. Soc.
/// 97(4), 1934.
std::vector<std::uint32_t> share_more(const std::vector<float>& deviation,
                                      const std::vector<float>& taken,
                                      double more);

/// Shares out `mean` samples a pixel in proportion to `need`: multiples of kBatches, at least
/// that many each; their sum is that of the mean within one multiple. mean >= kBatches.
std::vector<std::uint32_t> share_out(const std::vector<float>& need, double mean);

/// The samples a pixel that a target takes when all pixels get as many, and when they are shared
/// out by need, where noise falls as one over the root of the samples. NaN for a picture without
/// pixels; target > 0.
struct SamplesForTarget {
  double even = 0, shared = 0;
};
SamplesForTarget samples_for_target(int width,
                                    int height,
                                    const std::vector<float>& noise,
                                    const std::vector<float>& samples,
                                    double target);

}  // namespace jovilux
