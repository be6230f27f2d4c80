// SPDX-License-Identifier: Apache-2.0
// Single pictures of a clip as files: PNG or JPEG, one by one or as a sheet of several.
#pragma once
#include <functional>

#include "codec/codec.h"
#include "io/io.h"

namespace ruedo {

struct StillOptions {
    enum class Format { png, jpeg } format = Format::png;
    std::vector<Time> at;                ///< In this order; what is shown at each.
    std::optional<Time> every;           ///< Instead: from the beginning on, so far apart.
    std::size_t count = 0;               ///< Instead: so many, each in the middle of as many equal stretches.
    int columns = 0, rows = 0;           ///< Instead: a sheet of so many, as one picture.
    int width = 0, height = 0;           ///< Each fits into this, in its own shape; 0 for as large as it is shown.
    bool fills = false;                  ///< Each fills that size instead, and what reaches beyond is cut off.
    std::filesystem::path out;           ///< A folder, made if missing; of a sheet, and where `single`, the file.
    bool single = false;                 ///< There is but one, and `out` is its file.
    Replace replace = Replace::nothing;  ///< What files of the same names may take the place of.
    std::function<bool()> go_on{};       ///< Asked between pictures; false stops it (`cancelled`).
};
struct Still {
    Time at{};  ///< Of the picture, which may have begun before the time asked for.
    std::filesystem::path path;
    int width = 0, height = 0;
};

/// At most 10,000, and a sheet of at most 400 of up to 16384 pixels either way (`limit`). Blocks.
Result<std::vector<Still>> stills(const std::string& source, const StillOptions& options, CodecRegistry& codecs);

/// When the picture is shown that has most fine detail of those from `span` before `at` to `span` after: the mean
/// square of its luma's Laplacian. Blocks; `cancelled` when asked to stop.
Result<Time> sharpest_near(const std::string& source, Time at, Time span, CodecRegistry& codecs,
                           const std::atomic<bool>* cancel = nullptr);

}  // namespace ruedo
