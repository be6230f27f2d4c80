// SPDX-License-Identifier: GPL-3.0-or-later
#include "making.h"

#include <fmt/format.h>

#include <charconv>
#include <cmath>
#include <cstdio>
#include <nlohmann/json.hpp>

#include "convert/compare.h"
#include "convert/fitting.h"
#include "convert/jobs.h"
#include "convert/stills.h"
#include "headless.h"
#include "io/json_text.h"
#include "io/transfer.h"
#include "player/layout.h"

namespace ruedo {
namespace fs = std::filesystem;
namespace {
using nlohmann::json;

std::unexpected<Error> wrong(std::string sentence, std::string hint = {}) {
    return std::unexpected(Error{ErrorCode::usage, std::move(sentence), std::move(hint)});
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
/// What an option's word is in a recipe; nothing where it makes no sense.
std::optional<json> in_recipe(RecipeOption::Says says, const std::string& word) {
    using Says = RecipeOption::Says;
    auto whole = [](std::optional<double> n) -> std::optional<json> {
        if (!n || *n != std::floor(*n) || std::abs(*n) > 1e15) return std::nullopt;
        return json(static_cast<std::int64_t>(*n));
    };
    switch (says) {
        case Says::word:
            return json(word);
        case Says::whole:
            return whole(plain_number(word));
        case Says::number: {
            auto n = plain_number(word);
            return n ? std::optional<json>(*n) : std::nullopt;
        }
        case Says::bits:
        case Says::bytes: {
            auto n = amount(word, says == Says::bytes);
            return n ? whole(std::round(*n)) : std::nullopt;
        }
        case Says::time: {
            auto t = parse_time(word);
            return t ? std::optional<json>(t->ns) : std::nullopt;
        }
        case Says::size: {
            auto cut = word.find('x');
            if (cut == std::string::npos || word.size() == 1) return std::nullopt;
            json size = json::object();
            for (auto [name, part] : {std::pair{"width", word.substr(0, cut)}, {"height", word.substr(cut + 1)}}) {
                auto n = part.empty() ? json(0) : whole(plain_number(part)).value_or(json());
                if (n.is_null() || n < 0) return std::nullopt;
                if (n != 0) size[name] = n;
            }
            if (size.empty()) return std::nullopt;
            return size;
        }
    }
    return std::nullopt;
}
constexpr std::array<const char*, 7> takes{"a word",
                                           "an integer",
                                           "a number",
                                           "bits a second, such as 2.5M or 700k",
                                           "a number of bytes, such as 8MB",
                                           "a time with a unit, such as 1.5s",
                                           "a size, which is 1280x720, 1280x or x720"};
}  // namespace

std::span<const RecipeOption> recipe_options() {
    using Says = RecipeOption::Says;
    static constexpr std::array rows{
        RecipeOption{"--video", "/video/codec", Says::word, "h264, vp9, vp8, av1, theora, mjpeg, copy or none"},
        RecipeOption{"--audio", "/audio/codec", Says::word, "aac, opus, vorbis, mp3, flac, pcm, copy or none"},
        RecipeOption{"--size", "/video", Says::size, "1280x720, 1280x or x720, as shown"},
        RecipeOption{"--shape", "/video/shape", Says::word, "keep, crop, pad or bake"},
        RecipeOption{"--matrix", "/video/matrix", Says::word, "bt601, bt709 or bt2020, which colours are converted to"},
        RecipeOption{"--range", "/video/range", Says::word, "limited or full, which colours are converted to"},
        RecipeOption{"--rate", "/video/rate", Says::word, "keep, 30 or 30000/1001"},
        RecipeOption{"--most-rate", "/video/most_rate", Says::word, "Of the pictures, where they have more: 30"},
        RecipeOption{"--bitrate", "/video/bitrate", Says::bits, "Of the pictures: 2.5M"},
        RecipeOption{"--quality", "/video/quality", Says::whole, "Constant, on the encoder’s own scale"},
        RecipeOption{"--passes", "/video/passes", Says::whole, "1 or 2"},
        RecipeOption{"--keyframes", "/video/keyframe_ns", Says::time, "At most so far apart: 2s"},
        RecipeOption{"--effort", "/video/effort", Says::word, "quick, middling or thorough"},
        RecipeOption{"--fit-bytes", "/fit_bytes", Says::bytes, "The whole is at most so large: 8MB"},
        RecipeOption{"--loudness", "/audio/loudness", Says::number, "LUFS: -23"},
        RecipeOption{"--channels", "/audio/channels", Says::whole, "Of the sound, 1 to 8"},
        RecipeOption{"--sample-rate", "/audio/sample_rate", Says::whole, "Of the sound: 48000"},
        RecipeOption{"--tracks", "/tracks", Says::word, "Of sound: main or all"},
        RecipeOption{"--captions", "/captions", Says::word, "keep, burn or none"},
        RecipeOption{"--wrapper", "/wrapper", Says::word, "Instead of what OUT’s extension says: mp4-fragments"},
        RecipeOption{"--from", "/from_ns", Says::time, "Where it begins"},
        RecipeOption{"--to", "/to_ns", Says::time, "Where it ends"}};
    return rows;
}

namespace {
/// Where a sentence names a member of the recipe that an option says, the option is named.
std::string by_option(std::string sentence) {
    for (auto& row : recipe_options()) {
        std::vector<std::string> pointers{row.pointer};
        if (row.says == RecipeOption::Says::size)
            pointers = {std::string(row.pointer) + "/width", std::string(row.pointer) + "/height"};
        for (auto& pointer : pointers)
            for (auto& before : {"In “the options”, ", "The recipe’s "}) {
                auto place = before + pointer;
                auto at = sentence.find(place);
                auto end = at + place.size();
                if (at != sentence.npos && (end == sentence.size() || sentence[end] == ' '))
                    sentence.replace(at, place.size(), row.name);
            }
    }
    return sentence;
}
}  // namespace

Result<ConversionOptions> read_words(const ConvertArguments& w) {
    ConversionOptions o;
    o.out = w.out;
    o.replace = replacing(w.replace), o.check = !w.unchecked;
    if (!w.recipe.empty()) {
        RUEDO_TRY(auto j, read_json(w.recipe, 1 << 20));
        RUEDO_TRY(o.recipe, recipe_from_json(j, std::filesystem::path(w.recipe).filename().string()));
    }
    if (!w.target.empty()) {
        RUEDO_TRY(o.target, find_target(w.target));
    }
    // On top of the recipe, member by member.
    auto all = to_json(o.recipe);
    bool aims = false, keeps_quality = false;
    for (auto& row : recipe_options()) {
        auto said = w.options.find(row.name);
        if (said == w.options.end() || said->second.empty()) continue;
        auto value = in_recipe(row.says, said->second);
        if (!value)
            return wrong(fmt::format("{} takes {}, not “{}”.", row.name, takes.at(static_cast<std::size_t>(row.says)),
                                     said->second));
        json::json_pointer place(row.pointer);
        if (row.says == RecipeOption::Says::size)
            all[place].erase("width"), all[place].erase("height"), all[place].update(*value);
        else if (place.back() == "rate" && *value == "keep")
            all[place.parent_pointer()].erase("rate");
        else
            all[place] = *value;
        aims = aims || place.back() == "bitrate" || place.back() == "fit_bytes";
        keeps_quality = keeps_quality || place.back() == "quality";
    }
    auto read = recipe_from_json(all, "the options");
    if (!read) return wrong(by_option(read.error().sentence));
    o.recipe = *read;
    if (aims && keeps_quality)
        return wrong("Constant quality has no bitrate and no size to aim at.", "Choose one of them.");
    if (!w.progress.empty() && w.progress != "json") return wrong("--progress is json.");
    return o;
}

std::function<bool(const ConversionProgress&)> told_in_lines(bool lines) {
    return [lines](const ConversionProgress& p) {
        if (lines) {
            json line{{"done", p.done}, {"speed", p.speed}, {"bytes", p.bytes}, {"expected_bytes", p.expected_bytes}};
            line["left_ns"] = p.left ? json(p.left->ns) : json(nullptr);
            fmt::print(stderr, "{}\n", line.dump());
        }
        return !interrupted();
    };
}

Result<json> convert_command(const ConvertArguments& w) {
    RUEDO_TRY(auto o, read_words(w));
    o.told = told_in_lines(w.progress == "json");
    auto made = convert(w.in, o, CodecRegistry::standard());
    if (made) return to_json(*made);
    auto error = made.error();
    if (error.code == ErrorCode::cancelled && interrupted())
        return fail(ErrorCode::cancelled, "Stopped; nothing was written.", "Run it again.");
    error.sentence = by_option(std::move(error.sentence));
    return std::unexpected(std::move(error));
}

Result<std::vector<Time>> read_times(const std::string& at) {
    std::vector<Time> times;
    for (std::size_t from = 0; !at.empty() && from <= at.size();) {
        auto end = std::min(at.find(',', from), at.size());
        auto part = at.substr(from, end - from);
        auto t = parse_time(part);
        if (!t) return wrong(not_a_time(part) + ".", "Separate several by commas.");
        times.push_back(*t);
        from = end + 1;
    }
    return times;
}

Result<json> stills_command(const StillArguments& w) {
    StillOptions o;
    o.out = w.out;
    o.replace = replacing(w.replace);
    if (w.out.empty()) return wrong("--out names nothing.", "Name a folder, or the file of a sheet or of one picture.");
    if ((!w.at.empty()) + (!w.every.empty()) + (!w.count.empty()) + (!w.sheet.empty()) > 1)
        return wrong("--at, --every, --count and --sheet exclude each other.", "Choose one of them.");
    RUEDO_TRY(o.at, read_times(w.at));
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
    o.fills = w.crop;
    if (w.crop && w.size.empty()) return wrong("--crop needs a --size to fill.", "Say one, or name a --mount.");
    if (!w.mount.empty()) {
        auto mount = mount_from_name(w.mount);
        if (!mount)
            return wrong(fmt::format("There is no mount “{}”.", w.mount),
                         fmt::format("There are {}.", fmt::join(mount_names(), ", ")));
        if (!w.size.empty())
            return wrong("--mount has a size of its own.", "Say either --mount, or --size with --crop.");
        auto shape = shape_of(*mount);
        o.width = shape.width, o.height = shape.height, o.fills = true;
    }
    if (!w.format.empty() && w.format != "png" && w.format != "jpeg") return wrong("--format is png or jpeg.");
    // A name that ends as a picture’s is a file’s, and says what it is to be.
    auto ending = transfer::lower(o.out.extension().string());
    bool jpeg = ending == ".jpg" || ending == ".jpeg";
    std::error_code ec;
    bool file = (jpeg || ending == ".png") && !std::filesystem::is_directory(o.out, ec);
    o.format = w.format == "jpeg" || (w.format.empty() && file && jpeg) ? StillOptions::Format::jpeg
                                                                        : StillOptions::Format::png;
    o.single = file && !o.columns;
    if (o.single && (o.at.size() > 1 || o.every || o.count > 1))
        return wrong(fmt::format("Several pictures don’t go into one file, “{}”.", w.out), "Name a folder for them.");
    o.go_on = [] { return !interrupted(); };
    RUEDO_TRY(auto made, stills(w.in, o, CodecRegistry::standard()));
    json list = json::array();
    for (auto& s : made)
        list.push_back({{"at_ns", s.at.ns}, {"path", s.path.string()}, {"width", s.width}, {"height", s.height}});
    return json{{"stills", std::move(list)}};
}

Result<json> recipe_command(const std::string& in, const std::string& target) {
    RUEDO_TRY(auto wanted, find_target(target));
    std::shared_ptr<Clip> clip;
    {
        ReadScope opening(nullptr, false, monotonic_now() + open_deadline);
        RUEDO_TRY(clip, open_clip(in));
    }
    RUEDO_TRY(auto proposal, propose(std::move(clip), wanted, CodecRegistry::standard(), in));
    return to_json(proposal);
}

Result<json> prepare_command(const std::string& project, const std::string& target, bool make) {
    RUEDO_TRY(auto document, load_document(project));
    if (make && document.newer())
        return fail(ErrorCode::too_new,
                    "The project is of a newer format; naming in it what was made would lose the rest.",
                    "Update Ruedo, or run this without --make.");
    auto folder = fs::absolute(project).parent_path();
    RUEDO_TRY(auto wanted, find_target(target.empty() ? document.target : target));
    json list = json::array();
    for (auto& source : document.sources) {
        auto from = resolve(source, folder);
        auto* before = source.prepared_for(wanted.name);
        auto made = before && !before->file.empty() ? fs::path(resolve(before->file, folder)) : fs::path();
        InterruptScope scope;
        auto target_report =
            report_for(from, wanted, before ? before->recipe : std::nullopt, made, CodecRegistry::standard());
        if (make && target_report.makes()) {
            ConversionOptions o;
            o.out = made = place_for(folder, from, wanted, target_report.ending);
            o.recipe = target_report.recipe, o.target = wanted;
            o.told = [](auto&) { return !interrupted(); };
            RUEDO_TRY(auto done, convert(from, o, CodecRegistry::standard()));
            target_report.made = true, target_report.bytes_after = done.bytes, target_report.took = done.took;
            source.prepare_for(wanted.name).file = made.lexically_relative(folder).string();
            RUEDO_TRY_DO(save_document(document, project));
        }
        if (interrupted()) return fail(ErrorCode::cancelled, "Preparing was interrupted.", "Run it again.");
        auto j = to_json(target_report);
        j["name"] = source.name;
        j["file"] = target_report.made ? json(made.string()) : json(nullptr);
        list.push_back(std::move(j));
    }
    return json{{"target", wanted.name}, {"sources", std::move(list)}};
}

Result<json> jobs_command(const JobArguments& w) {
    JobQueue queue(JobQueue::standard_folder());
    if (!w.add.empty()) {
        if (w.add.size() != 3) return wrong("--add takes a recipe, an input and an output.");
        ConvertArguments words;
        words.recipe = w.add[0] == "-" ? "" : w.add[0], words.out = w.add[2], words.target = w.target;
        RUEDO_TRY(auto o, read_words(words));
        RUEDO_TRY_DO(container_format_for(o.recipe, o.out));
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
            RUEDO_TRY(auto id, numbered(*word));
            RUEDO_TRY_DO((queue.*what)(id));
        }
    if (!w.move.empty()) {
        RUEDO_TRY(auto id, numbered(w.move));
        std::optional<std::uint64_t> before;
        if (!w.before.empty()) {
            RUEDO_TRY(before, numbered(w.before));
        }
        RUEDO_TRY_DO(queue.move(id, before));
    }
    if (w.clear) queue.clear();
    if (w.run) RUEDO_TRY_DO(queue.run(CodecRegistry::standard(), [](const Job&) { return !interrupted(); }, 2));
    json list = json::array();
    for (auto& j : queue.list()) list.push_back(to_json(j));
    json problems = json::array();
    for (auto& p : queue.problems()) problems.push_back(to_json(p));
    return json{{"jobs", std::move(list)}, {"problems", std::move(problems)}};
}

Result<json> compare_command(const std::string& a, const std::string& b, const std::string& at) {
    CompareOptions o;
    RUEDO_TRY(o.at, read_times(at));
    o.told = [](auto&) { return !interrupted(); };
    RUEDO_TRY(auto c, compare(a, b, CodecRegistry::standard(), o));
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
