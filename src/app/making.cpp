// SPDX-License-Identifier: GPL-3.0-or-later
#include "making.h"

#include <fmt/format.h>

#include <charconv>
#include <cmath>
#include <cstdio>
#include <nlohmann/json.hpp>

#include "convert/compare.h"
#include "convert/jobs.h"
#include "convert/stills.h"
#include "headless.h"

namespace ruedo {
namespace {
using nlohmann::json;
using Do = Recipe::Do;

std::unexpected<Error> wrong(std::string sentence, std::string hint = "See “ruedo convert --help”.") {
    return std::unexpected(Error{Code::usage, std::move(sentence), std::move(hint)});
}
std::optional<double> plain_number(std::string_view text) {
    double v = 0;
    auto [end, ec] = std::from_chars(text.data(), text.data() + text.size(), v);
    return ec == std::errc{} && end == text.data() + text.size() && std::isfinite(v) ? std::optional(v) : std::nullopt;
}
/// "2.5M", "700k", "8MB": thousands and millions, decimal.
std::optional<double> amount(std::string_view text, bool bytes) {
    if (bytes && text.ends_with('B')) text.remove_suffix(1);
    double unit = 1;
    if (!text.empty()) {
        auto last = text.back();
        unit = last == 'k' || last == 'K' ? 1e3 : last == 'M' ? 1e6 : last == 'G' ? 1e9 : 1;
        if (unit != 1) text.remove_suffix(1);
    }
    auto n = plain_number(text);
    return n && *n > 0 ? std::optional(*n * unit) : std::nullopt;
}
}  // namespace

Result<ConversionOptions> read_words(const ConvertWords& w) {
    ConversionOptions o;
    o.out = w.out;
    o.replace = w.replace;
    if (!w.recipe.empty()) {
        TRY(auto bytes, read_file(w.recipe, 1 << 20));
        auto j = json::parse(bytes.begin(), bytes.end(), nullptr, false);
        if (j.is_discarded())
            return fail(Code::malformed, fmt::format("“{}” is not readable as JSON.", w.recipe),
                        "Put it right in a text editor.");
        TRY(o.recipe, recipe_from_json(j, std::filesystem::path(w.recipe).filename().string()));
    }
    if (!w.target.empty()) {
        TRY(o.target, find_target(w.target));
    }
    auto& r = o.recipe;
    auto codec = [](const std::string& word, Do& action, std::optional<Codec>& into, const char* option) -> Outcome {
        if (word.empty()) return {};
        if (word == "copy" || word == "none") {
            action = word == "copy" ? Do::copy : Do::none;
            return {};
        }
        into = codec_from_name(word);
        if (*into == Codec::unknown) return wrong(fmt::format("{} names “{}”, which is no codec.", option, word));
        action = Do::encode;
        return {};
    };
    TRY_DO(codec(w.video, r.video.action, r.video.codec, "--video"));
    TRY_DO(codec(w.audio, r.audio.action, r.audio.codec, "--audio"));
    if (!w.size.empty()) {
        auto cut = w.size.find('x');
        auto side = [&](std::string_view text) -> std::optional<int> {
            if (text.empty()) return 0;
            auto n = plain_number(text);
            return n && *n >= 2 && *n <= 8192 && *n == std::floor(*n) ? std::optional(static_cast<int>(*n))
                                                                      : std::nullopt;
        };
        auto width = cut == std::string::npos ? std::nullopt : side(std::string_view(w.size).substr(0, cut));
        auto height = cut == std::string::npos ? std::nullopt : side(std::string_view(w.size).substr(cut + 1));
        if (!width || !height || (!*width && !*height))
            return wrong(fmt::format("“{}” is no size; it is 1280x720, 1280x or x720, from 2 to 8192.", w.size));
        r.video.width = *width, r.video.height = *height;
    }
    if (!w.shape.empty()) {
        if (w.shape == "keep")
            r.video.shape = Recipe::Shape::keep;
        else if (w.shape == "crop")
            r.video.shape = Recipe::Shape::crop;
        else if (w.shape == "pad")
            r.video.shape = Recipe::Shape::pad;
        else if (w.shape == "bake")
            r.video.shape = Recipe::Shape::bake;
        else
            return wrong(fmt::format("--shape is keep, crop, pad or bake, not “{}”.", w.shape));
    }
    if (!w.rate.empty() && w.rate != "keep") {
        r.video.rate = parse_rational(w.rate);
        if (!r.video.rate || r.video.rate->num > 1000 * r.video.rate->den)
            return wrong(fmt::format("“{}” is no rate; it is keep, 30 or 30000/1001, at most 1000.", w.rate));
    }
    if (!w.bitrate.empty()) {
        auto n = amount(w.bitrate, false);
        if (!n || *n < 1000 || *n > 1e9)
            return wrong(fmt::format("“{}” is no bitrate; it is 2.5M or 700k, up to 1000M.", w.bitrate));
        r.video.bitrate = static_cast<std::uint32_t>(*n);
    }
    if (!w.quality.empty()) {
        auto n = plain_number(w.quality);
        if (!n || *n < 0 || *n > 100 || *n != std::floor(*n))
            return wrong(
                fmt::format("“{}” is no quality; it is a whole number on the encoder’s own scale.", w.quality));
        r.video.quality = static_cast<int>(*n);
    }
    if (!w.fit_bytes.empty()) {
        auto n = amount(w.fit_bytes, true);
        if (!n || *n < 1000 || *n > 1e15)
            return wrong(fmt::format("“{}” is no size in bytes, such as 8MB.", w.fit_bytes));
        r.fit_bytes = static_cast<std::uint64_t>(*n);
    }
    if (!w.passes.empty()) {
        if (w.passes != "1" && w.passes != "2") return wrong("--passes is 1 or 2.");
        r.video.passes = w.passes == "2" ? 2 : 1;
    }
    if (!w.loudness.empty()) {
        auto n = plain_number(w.loudness);
        if (!n || *n < -70 || *n > 0)
            return wrong(fmt::format("“{}” is no loudness; it is -70 to 0 LUFS.", w.loudness));
        r.audio.loudness = *n;
    }
    auto time = [](const std::string& word, const char* option, auto& into) -> Outcome {
        if (word.empty()) return {};
        auto t = parse_time(word);
        if (!t) return wrong(fmt::format("{} takes a time with a unit, such as 1.5s, not “{}”.", option, word));
        into = *t;
        return {};
    };
    // What a recipe says in the same words is read as a recipe.
    json more = json::object();
    auto put = [&](const std::string& word, const char* pointer, bool number) -> Outcome {
        if (word.empty()) return {};
        auto n = number ? plain_number(word) : std::nullopt;
        if (number && (!n || *n != std::floor(*n) || std::abs(*n) > 1e15))
            return wrong(fmt::format("“{}” is no whole number.", word));
        more[json::json_pointer(pointer)] = number ? json(static_cast<std::int64_t>(*n)) : json(word);
        return {};
    };
    TRY_DO(put(w.wrapper, "/wrapper", false));
    TRY_DO(put(w.captions, "/captions", false));
    TRY_DO(put(w.tracks, "/tracks", false));
    TRY_DO(put(w.effort, "/video/effort", false));
    TRY_DO(put(w.channels, "/audio/channels", true));
    TRY_DO(put(w.sample_rate, "/audio/sample_rate", true));
    TRY_DO(put(w.most_rate, "/video/most_rate", false));
    if (!more.empty()) {
        auto all = to_json(r);
        all.merge_patch(more);
        auto read = recipe_from_json(all, "the options");
        if (!read) return wrong(read.error().sentence);
        r = *read;
    }
    if (!w.keyframes.empty()) {
        auto t = parse_time(w.keyframes);
        if (!t || t->ns < 1 || *t > 600_s)
            return wrong(fmt::format("--keyframes takes a time with a unit, such as 2s, not “{}”.", w.keyframes));
        r.video.keyframes = *t;
    }
    TRY_DO(time(w.from, "--from", r.from));
    TRY_DO(time(w.to, "--to", r.to));
    if (r.to && *r.to <= r.from) return wrong("--to must lie after --from.");
    if (r.video.quality && (r.video.bitrate || r.fit_bytes))
        return wrong("Constant quality has no bitrate and no size to aim at.", "Choose one of them.");
    if (!w.progress.empty() && w.progress != "json") return wrong("--progress is json.");
    return o;
}

Result<json> convert_command(const ConvertWords& w) {
    TRY(auto o, read_words(w));
    bool lines = w.progress == "json";
    o.told = [lines](const ConversionProgress& p) {
        if (lines) {
            json line{{"done", p.done}, {"speed", p.speed}, {"bytes", p.bytes}, {"expected_bytes", p.expected_bytes}};
            line["left_ns"] = p.left ? json(p.left->ns) : json(nullptr);
            fmt::print(stderr, "{}\n", line.dump());
        }
        return !interrupted();
    };
    TRY(auto made, convert(w.in, o, CodecRegistry::standard()));
    return to_json(made);
}

namespace {
Result<std::vector<Time>> read_times(const std::string& at) {
    std::vector<Time> times;
    for (std::size_t from = 0; !at.empty() && from <= at.size();) {
        auto end = std::min(at.find(',', from), at.size());
        auto part = at.substr(from, end - from);
        auto t = parse_time(part);
        if (!t)
            return wrong(fmt::format("“{}” is not a time; it needs a unit, such as 250ms.", part),
                         "Separate several by commas.");
        times.push_back(*t);
        from = end + 1;
    }
    return times;
}
}  // namespace

Result<json> stills_command(const StillWords& w) {
    StillOptions o;
    o.out = w.out;
    o.replace = w.replace;
    if (w.out.empty()) return wrong("--out names nothing.", "Name a folder, or the file of a sheet.");
    if ((!w.at.empty()) + (!w.every.empty()) + (!w.count.empty()) + (!w.sheet.empty()) > 1)
        return wrong("--at, --every, --count and --sheet exclude each other.", "Choose one of them.");
    TRY(o.at, read_times(w.at));
    if (!w.every.empty()) {
        o.every = parse_time(w.every);
        if (!o.every || o.every->ns < 1)
            return wrong(fmt::format("--every takes a time with a unit, such as 2s, not “{}”.", w.every));
    }
    auto pair = [](const std::string& text, double most) -> std::optional<std::pair<int, int>> {
        auto cut = text.find('x');
        if (cut == std::string::npos) return std::nullopt;
        auto a = plain_number(std::string_view(text).substr(0, cut)),
             b = plain_number(std::string_view(text).substr(cut + 1));
        bool fine =
            a && b && *a >= 1 && *b >= 1 && *a <= most && *b <= most && *a == std::floor(*a) && *b == std::floor(*b);
        return fine ? std::optional(std::pair(static_cast<int>(*a), static_cast<int>(*b))) : std::nullopt;
    };
    if (!w.count.empty()) {
        auto n = plain_number(w.count);
        if (!n || *n < 1 || *n > 10'000 || *n != std::floor(*n))
            return wrong(fmt::format("“{}” is no count, 1 to 10000.", w.count));
        o.count = static_cast<std::size_t>(*n);
    }
    if (!w.sheet.empty()) {
        auto s = pair(w.sheet, 400);
        if (!s) return wrong(fmt::format("“{}” is no sheet; it is columns by rows, such as 4x3.", w.sheet));
        std::tie(o.columns, o.rows) = *s;
    }
    if (!w.size.empty()) {
        auto s = pair(w.size, 8192);
        if (!s)
            return wrong(fmt::format("“{}” is no size; it is width by height, such as 320x180, up to 8192.", w.size));
        std::tie(o.width, o.height) = *s;
    }
    if (!w.format.empty() && w.format != "png" && w.format != "jpeg") return wrong("--format is png or jpeg.");
    o.format = w.format == "jpeg" ? StillOptions::Format::jpeg : StillOptions::Format::png;
    o.go_on = [] { return !interrupted(); };
    TRY(auto made, stills(w.in, o, CodecRegistry::standard()));
    json list = json::array();
    for (auto& s : made)
        list.push_back({{"at_ns", s.at.ns}, {"path", s.path.string()}, {"width", s.width}, {"height", s.height}});
    return json{{"stills", std::move(list)}};
}

Result<json> jobs_command(const JobWords& w) {
    JobQueue queue(JobQueue::standard_folder());
    if (!w.add.empty()) {
        if (w.add.size() != 3) return wrong("--add takes a recipe, what is read and what is made.");
        ConvertWords words;
        words.recipe = w.add[0] == "-" ? "" : w.add[0], words.out = w.add[2], words.target = w.target;
        TRY(auto o, read_words(words));
        TRY_DO(wrapper_for(o.recipe, o.out));
        if (auto added = queue.add(w.add[1], o.out, o.recipe, w.target); !added) return std::unexpected(added.error());
    }
    auto numbered = [](const std::string& word) -> Result<std::uint64_t> {
        auto n = plain_number(word);
        if (!n || *n < 1 || *n != std::floor(*n) || *n > 1e15)
            return wrong(fmt::format("“{}” is no job’s number.", word));
        return static_cast<std::uint64_t>(*n);
    };
    for (auto [word, what] :
         {std::pair{&w.pause, &JobQueue::pause}, {&w.go_on, &JobQueue::go_on}, {&w.stop, &JobQueue::stop}})
        if (!word->empty()) {
            TRY(auto id, numbered(*word));
            TRY_DO((queue.*what)(id));
        }
    if (!w.move.empty()) {
        TRY(auto id, numbered(w.move));
        std::optional<std::uint64_t> before;
        if (!w.before.empty()) {
            TRY(before, numbered(w.before));
        }
        TRY_DO(queue.move(id, before));
    }
    if (w.clear) queue.clear();
    if (w.run) TRY_DO(queue.run(CodecRegistry::standard(), [](const Job&) { return !interrupted(); }));
    json list = json::array();
    for (auto& j : queue.list()) list.push_back(to_json(j));
    return json{{"jobs", std::move(list)}};
}

Result<json> compare_command(const std::string& a, const std::string& b, const std::string& at) {
    CompareOptions o;
    TRY(o.at, read_times(at));
    o.told = [](auto&) { return !interrupted(); };
    TRY(auto c, compare(a, b, CodecRegistry::standard(), o));
    auto decibels = [](double v) { return std::isfinite(v) ? json(v) : json(nullptr); };
    json worst = json::array();
    for (auto& p : c.worst())
        worst.push_back({{"at_ns", p.at.ns},
                         {"ssim_y", p.ssim_y},
                         {"psnr_y", decibels(10 * std::log10(255.0 * 255.0 / p.mean_squared_error))}});
    return json{{"frames", c.frames},
                {"psnr_y", decibels(c.psnr_y)},
                {"ssim_y", c.ssim_y},
                {"worst", std::move(worst)},
                {"identical", c.identical}};
}

}  // namespace ruedo
