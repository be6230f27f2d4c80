// SPDX-License-Identifier: GPL-3.0-or-later
#include "commands.h"

#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <charconv>
#include <cstdio>
#include <iostream>

#include "capture/camera.h"
#include "catalogue/catalogue.h"
#include "checking.h"
#include "convert/through.h"
#include "looking.h"
#include "making.h"
#include "pack/pack.h"
#include "plain.h"
#include "streaming.h"

namespace ruedo {
namespace fs = std::filesystem;
using nlohmann::json;
namespace {

Error wrong_usage(std::string sentence, std::string hint = {}) {
    return {ErrorCode::usage, std::move(sentence), std::move(hint)};
}

Result<json> pack_project(const fs::path& project, const fs::path& out, bool outside, bool replace) {
    RUEDO_TRY(auto document, load_document(project));
    auto folder = project.has_parent_path() ? project.parent_path() : fs::path(".");
    auto player = executable_path().parent_path() / "ruedo-player";
    PackOptions options{.progress = [](auto, auto) { return !interrupted(); }, .outside = {}};
    options.replace = replace;
    if (outside) options.outside = [](auto&) { return true; };
    RUEDO_TRY(auto packed, pack(document, folder, out, player, CodecRegistry::standard(), options));
    json findings = json::array();
    for (auto& f : packed.findings) findings.push_back({{"code", f.code}, {"sentence", f.sentence}, {"hint", f.hint}});
    json items = json::array();
    for (auto& i : packed.items) items.push_back({{"path", i.path}, {"bytes", i.bytes}, {"kind", i.kind}});
    return json{{"path", packed.folder.string()}, {"executable", packed.executable.string()},
                {"bytes", packed.bytes},          {"items", std::move(items)},
                {"licence", packed.licence},      {"findings", std::move(findings)}};
}

/// The mount that is named, or the document's own; at a size that is given, or its own.
Status mount_for(ArrangeOptions& o, const std::string& mount, const std::string& size) {
    if (!mount.empty()) {
        auto named = mount_from_name(mount);
        if (!named)
            return std::unexpected(wrong_usage(fmt::format("There is no mount “{}”.", mount),
                                               fmt::format("There are {}.", fmt::join(mount_names(), ", "))));
        // At its own size, when it is another than the document's.
        if (*named != o.document.mount) o.document.mount_width = o.document.mount_height = 0;
        o.document.mount = *named;
    }
    int width = 0, height = 0;
    if (!size.empty()) {
        auto whole = [](std::string_view text, int& v) {
            auto [end, ec] = std::from_chars(text.data(), text.data() + text.size(), v);
            return ec == std::errc{} && end == text.data() + text.size();
        };
        auto cut = size.find('x');
        bool fine = cut != std::string::npos && whole(std::string_view(size).substr(0, cut), width) &&
                    whole(std::string_view(size).substr(cut + 1), height) && width >= 100 && height >= 100 &&
                    width <= 8192 && height <= 8192;
        if (!fine)
            return std::unexpected(wrong_usage(
                fmt::format("“{}” is no size; it is width by height, such as 360x780, 100 to 8192.", size)));
    }
    if (size.empty()) width = o.document.mount_width, height = o.document.mount_height;
    o.mount = shape_of(o.document.mount, width, height);
    return {};
}
Status source_for(ArrangeOptions& o, const std::string& name) {
    auto& sources = o.document.sources;
    if (sources.empty())
        return fail(ErrorCode::empty, "The project has no source to play.",
                    "Add one in the window, or with a text editor.");
    if (name.empty()) return {};
    auto it = std::find_if(sources.begin(), sources.end(), [&](auto& s) { return s.name == name; });
    if (it == sources.end()) {
        std::vector<std::string_view> names;
        for (auto& s : sources) names.push_back(s.name);
        auto near = closest(name, names);
        return fail(ErrorCode::not_found, fmt::format("The project has no source “{}”.", name),
                    near ? fmt::format("Did you mean “{}”?", *near) : "See its shelf for their names.");
    }
    o.source = static_cast<std::size_t>(it - sources.begin());
    return {};
}

/// `exit`, or 1 where what was printed has not arrived: what could not be said was not done.
int said(int exit) {
    if (std::fflush(stdout) != 0 || std::ferror(stdout)) {
        fmt::print(stderr, "The document could not be written to standard output.\n");
        return exit == 0 ? 1 : exit;
    }
    return exit;
}

int finish(const json& document, int exit, bool as_json) {
    if (as_json) {
        auto text = document.dump(2, ' ', false, json::error_handler_t::replace) + "\n";
        std::fwrite(text.data(), 1, text.size(), stdout);
    } else if (document.contains("error") && document["error"].is_object() && document.size() == 1) {
        fmt::print(stderr, "{}\n{}\n", printable(document["error"]["sentence"].get<std::string>()),
                   printable(document["error"]["hint"].get<std::string>()));
    } else {
        auto text = plain_text(document);
        std::fwrite(text.data(), 1, text.size(), stdout);
    }
    return said(exit);
}

/// What helps where a command can’t be followed.
std::string usage_hint = "Run “ruedo --help” to see how it is used.";

int finish(const Result<json>& result, bool as_json, int exit = 0) {
    if (result) return finish(*result, exit, as_json);
    auto error = result.error();
    if (error.code == ErrorCode::usage && error.hint.empty()) error.hint = usage_hint;
    return finish(error_document(error), exit_code(error), as_json);
}

constexpr std::array<std::string_view, 17> command_names{
    "inspect", "frames",  "stills", "play",    "pack", "arrange", "check", "convert", "recipe",
    "prepare", "compare", "jobs",   "targets", "key",  "adapt",   "host",  "ladder"};
}  // namespace

bool is_command(int argc, char** argv) {
    if (argc < 2) return false;
    std::string_view first = argv[1];
    if (std::find(command_names.begin(), command_names.end(), first) != command_names.end()) return true;
    // What the window opens is a name that exists, or an address; anything else in front is meant as a command.
    std::error_code ec;
    return first.starts_with("-") || (!is_address(std::string(first)) && !fs::exists(first, ec));
}

namespace {
std::string keys_in_words() {
    std::string all = "F11, Esc";
    for (auto& k : player_keys()) all += fmt::format(", {}", k.keys);
    return all;
}
int run(int argc, char** argv, const Screens& screens) {
    if (std::find(command_names.begin(), command_names.end(), argv[1]) != command_names.end())
        usage_hint = fmt::format("Run “ruedo {} --help” to see how it is used.", argv[1]);
    bool as_json = std::find_if(argv + 1, argv + argc, [](const char* a) { return std::string_view(a) == "--json"; }) !=
                   argv + argc;
    CLI::App app{
        "Ruedo: a workshop for building a native video player into an app.\n"
        "ruedo [PROJECT|CLIP|FOLDER|ADDRESS…] opens the window; with a subcommand it works without one."};
    app.set_version_flag("--version", std::string("ruedo ") + RUEDO_VERSION);
    app.require_subcommand(1);
    std::string source, target, out, at, length, script, clock = "real", audio;
    bool json_flag = false, in_window = false, loop = false, replace = false, outside = false;
    auto add = [&](const char* name, const char* about, const char* subject) {
        auto* sub = app.add_subcommand(name, about);
        sub->add_option(subject, source)->required();
        sub->add_flag("--json", json_flag, "One JSON document on standard output");
        return sub;
    };
    auto* inspect_command = add("inspect", "What a file is, exactly", "FILE");
    inspect_command->add_option("--target", target, "A target to judge it for; see “ruedo targets”");
    auto* targets_command = app.add_subcommand("targets", "The targets that sources can be judged for");
    targets_command->add_flag("--json", json_flag, "One JSON document on standard output");
    std::string host, access_key;
    auto* key_command = app.add_subcommand("key", "Keeps the access key for a catalogue in your settings");
    key_command->add_option("HOST", host, "Host of the catalogue, with its port")->required();
    key_command->add_option("KEY", access_key, "The key; without one the kept key is forgotten");
    key_command->add_flag("--json", json_flag, "One JSON document on standard output");
    auto* frames_command = add("frames", "Pictures at given times, as PNG", "FILE");
    frames_command->add_option("--at", at, "Times with units, separated by commas")->required();
    frames_command->add_option("OUT,--out", out, "Folder to write into")->required();
    frames_command->add_flag("--replace", replace, "Pictures of the same name may be written over");
    auto* play_command = add("play", "Plays a source and reports what happened", "SOURCE");
    play_command->add_option("--clock", clock, "virtual or real");
    play_command->add_option("--for", length, "How long, in wall or virtual time");
    play_command->add_option(
        "--do", script,
        "Timed calls, such as \"1s pause; 2s seek 10s\": play, pause, stop, release, mute, unmute, "
        "seek T, rate N, volume N, step N");
    play_command->add_option("--sound", audio, "WAV file for what would be heard");
    play_command->add_flag("--replace", replace, "The WAV file may take the place of another file");
    play_command->add_flag("--window", in_window, "Play in a window");
    play_command->add_flag("--loop", loop, "Start over at the end");
    std::string policy, rung, start, network_trace;
    play_command->add_option("--policy", policy, "Of a stream: throughput, buffer or lookahead");
    play_command->add_option("--rung", rung, "Of a stream: only this one; see “ruedo inspect”");
    play_command->add_option("--start", start, "Of a stream: a time, or live");
    play_command->add_option("--weather", network_trace,
                             "Of a stream in virtual time, its link: a name, or CSV of seconds and Mbit/s");
    play_command->add_option("--through", target, "Converts it for a target while it plays; see “ruedo targets”");
    auto* pack_command = add("pack", "Makes the native app of a project", "PROJECT");
    pack_command->add_option("OUT,--out", out, "Folder to make; it must not exist")->required();
    pack_command->add_flag("--replace", replace, "Another packed app may be replaced");
    pack_command->add_flag("--outside", outside, "Packs files from outside the project's folder too");
    std::string mount, size, source_name, shot;
    auto* arrange_command = add("arrange", "What stands where on a mount, after calls in virtual time", "PROJECT");
    arrange_command->add_option("--mount", mount, "window, handset-upright, handset-sideways, tablet, wall or room");
    arrange_command->add_option("--size", size, "Of the mount, in pixels: 360x780");
    arrange_command->add_option("--source", source_name, "By name; the first without");
    arrange_command->add_option(
        "--do", script,
        "Timed calls, as in play; also press NAME, drag NAME 0.5, touch X Y, host WORD, key KEY "
        "(" +
            keys_in_words() + "); in a room hand X Y Z TURN TILT, pull");
    arrange_command->add_option("--at", at, "The moment, or moments separated by commas; after the last call without");
    arrange_command->add_option("--weather", network_trace,
                                "Of streams, their link: a name, or CSV of seconds and Mbit/s");
    arrange_command->add_option("--shot", shot, "PNG to write of what the mount shows");
    arrange_command->add_flag("--replace", replace, "The PNG may take the place of another file");
    ConvertArguments words;
    auto* convert_command_line = add("convert", "Makes a clip of another form", "IN");
    convert_command_line
        ->add_option("OUT,--out", words.out,
                     "Its extension chooses the wrapper: .mp4, .webm, .mkv, .ogg, .ts, .wav, .mp3, .flac, .aac")
        ->required();
    for (auto [name, into, about] : std::initializer_list<std::tuple<const char*, std::string*, const char*>>{
             {"--target", &words.target, "What it is to play on; see “ruedo targets”"},
             {"--recipe", &words.recipe, "A recipe as JSON (docs/recipe.md); options come on top of it"},
             {"--progress", &words.progress, "json: a line at least twice a second on standard error"}})
        convert_command_line->add_option(name, *into, about);
    for (auto& row : recipe_options()) convert_command_line->add_option(row.name, words.options[row.name], row.about);
    convert_command_line->add_flag("--no-check", words.unchecked, "What was made is not opened and judged");
    convert_command_line->add_flag("--replace", words.replace, "OUT may take the place of another file");
    CheckArguments check_words;
    auto* check_line = app.add_subcommand("check", "What is wrong with a project, or with all in a folder");
    check_line->add_option("PROJECT", check_words.place, "A project, or a folder")->required();
    check_line->add_option("--target", check_words.target, "Instead of the project’s own; see “ruedo targets”");
    check_line->add_option("--fail-on", check_words.fail_on, "What makes it exit with 1: error, or any finding");
    check_line->add_flag("--json", json_flag, "One JSON document on standard output");
    bool makes = false;
    auto* prepare_command_line = add("prepare", "What becomes of every source of a project for its target", "PROJECT");
    prepare_command_line->add_option("--target", target, "Instead of the project’s own; see “ruedo targets”");
    prepare_command_line->add_flag("--make", makes, "Makes what is missing, and has the project name it");
    auto* recipe_command_line = add("recipe", "What a target proposes for a clip, as a recipe, and why", "FILE");
    recipe_command_line->add_option("--target", target, "What it is to play on; see “ruedo targets”")->required();
    StillArguments still_words;
    auto* stills_command_line = add("stills", "Single pictures of a clip as files, or a sheet of them", "FILE");
    for (auto [name, into, about] : std::initializer_list<std::tuple<const char*, std::string*, const char*>>{
             {"--at", &still_words.at, "Times with units, separated by commas"},
             {"--every", &still_words.every, "From the beginning on, so far apart: 2s"},
             {"--count", &still_words.count, "So many, spread over it"},
             {"--sheet", &still_words.sheet, "Columns by rows on one picture: 4x3"},
             {"--size", &still_words.size, "Each fits into this: 320x180"},
             {"--mount", &still_words.mount, "Each fills this mount, as a poster does: handset-upright"},
             {"--format", &still_words.format, "png or jpeg"},
             {"OUT,--out", &still_words.out, "A folder, or the file (PNG or JPEG) of a sheet or of one picture"}})
        stills_command_line->add_option(name, *into, about);
    stills_command_line->add_flag("--crop", still_words.crop,
                                  "Each fills the size, and what reaches beyond is cut off");
    stills_command_line->add_flag("--replace", still_words.replace, "Files of the same name may be written over");
    JobArguments job_words;
    auto* jobs_command_line = app.add_subcommand("jobs", "The queue of conversions, the same as the window’s");
    jobs_command_line->add_flag("--json", json_flag, "One JSON document on standard output");
    jobs_command_line->add_option("--add", job_words.add, "A recipe’s file (- for none), IN and OUT")->expected(3);
    jobs_command_line->add_flag("--run", job_words.run, "Carries out what waits, two at a time");
    jobs_command_line->add_flag("--clear", job_words.clear, "Forgets those that are over");
    for (auto [name, into, about] : std::initializer_list<std::tuple<const char*, std::string*, const char*>>{
             {"--target", &job_words.target, "With --add: what it is to play on"},
             {"--pause", &job_words.pause, "The job of this number gives way"},
             {"--go-on", &job_words.go_on, "A paused one goes on"},
             {"--stop", &job_words.stop, "It ends, and leaves nothing behind"},
             {"--move", &job_words.move, "It changes its place: to the end, or"},
             {"--before", &job_words.before, "before this one"}})
        jobs_command_line->add_option(name, *into, about);
    AdaptArguments adapt_words;
    auto* adapt_command_line = app.add_subcommand("adapt", "How a rule of adaptation does on a ladder, simulated");
    adapt_command_line->add_flag("--json", json_flag, "One JSON document on standard output");
    adapt_command_line->add_option("--ladder", adapt_words.ladder, "A playlist or manifest, or a ladder as JSON")
        ->required();
    for (auto [name, into, about] : std::initializer_list<std::tuple<const char*, std::string*, const char*>>{
             {"--trace", &adapt_words.trace, "A link as CSV: seconds, Mbit/s"},
             {"--set", &adapt_words.set, "Several links: made, made-N-SEED or named"},
             {"--policy", &adapt_words.policy, "throughput, buffer or lookahead"}})
        adapt_command_line->add_option(name, *into, about);
    LadderArguments ladder_words;
    auto* ladder_command_line = add("ladder", "Cuts a clip into renditions and segments, with their playlists", "IN");
    for (auto [name, into, about] : std::initializer_list<std::tuple<const char*, std::string*, const char*>>{
             {"OUT,--out", &ladder_words.out, "Folder to make; it must not exist"},
             {"--rungs", &ladder_words.rungs, "1280x720@2.5M,640x360@700k; proposed without"},
             {"--segment", &ladder_words.segment, "Length of a segment: 4s"},
             {"--wrap", &ladder_words.wrap, "fmp4, ts or both"},
             {"--video", &ladder_words.video, "h264, vp9 or av1"},
             {"--audio", &ladder_words.audio, "aac or opus"},
             {"--progress", &ladder_words.progress, "json: a line at least twice a second on standard error"}})
        ladder_command_line->add_option(name, *into, about);
    ladder_command_line->get_option("--out")->required();
    ladder_command_line->add_option("--propose", ladder_words.propose, "So many rungs, from the clip’s own size down");
    ladder_command_line->add_option("--passes", ladder_words.passes, "1 or 2; two without, where the codec can");
    ladder_command_line->add_flag("--later", ladder_words.later,
                                  "Puts it at the end of the queue, for “ruedo jobs --run” or the window");
    ladder_command_line->add_flag("--replace", ladder_words.replace, "Another ladder may be replaced");
    ladder_command_line->add_flag("--dash", ladder_words.dash, "Also a manifest over the fragments");
    ladder_command_line->add_flag("--key", ladder_words.key, "Encrypts segments with a key that lies beside them");
    HostArguments host_words;
    auto* host_command_line = app.add_subcommand("host", "Serves a folder on this machine, in any weather");
    host_command_line->add_option("DIR", host_words.folder, "What is served")->required();
    host_command_line->add_option("--port", host_words.port, "A free one without");
    host_command_line->add_option("--weather", host_words.network_trace,
                                  "Its link: a name, or CSV of seconds and Mbit/s");
    host_command_line->add_flag("--live", host_words.live, "Finished playlists come as if they were live");
    bool json_lines = false;
    host_command_line->add_flag("--json-lines,--json", json_lines, "A line a request, which is how it always prints");
    auto* compare_command_line = add("compare", "Two clips held against each other, picture by picture", "A");
    compare_command_line->add_option("B", out, "The second one")->required();
    compare_command_line->add_option("--at", at, "Only at these times, separated by commas");
    try {
        app.parse(argc, argv);
    } catch (const CLI::CallForVersion& e) {
        return as_json ? finish(json{{"version", RUEDO_VERSION}}, 0, true) : said(app.exit(e));
    } catch (const CLI::Success& e) {
        return as_json ? finish(json{{"help", app.help()}}, 0, true) : said(app.exit(e));
    } catch (const CLI::ParseError& e) {
        std::string first = argv[1];
        if (!first.starts_with("-") &&
            std::find(command_names.begin(), command_names.end(), first) == command_names.end()) {
            auto near = closest(first, command_names);
            return finish(std::unexpected(wrong_usage(fmt::format("There is no command “{}”.", first),
                                                      near ? fmt::format("Did you mean “{}”?", *near)
                                                           : "Run “ruedo --help” to see which there are.")),
                          as_json);
        }
        return finish(std::unexpected(wrong_usage(e.what())), as_json);
    }
    catch_interrupts();
    InterruptScope obeyed;
    if (inspect_command->parsed()) {
        int exit = 0;
        auto document = inspect(source, target, exit);
        return finish(document, as_json, exit);
    }
    if (frames_command->parsed()) {
        std::vector<Time> times;
        std::stringstream list(at);
        for (std::string part; std::getline(list, part, ',');) {
            auto t = parse_time(part);
            if (!t) return finish(std::unexpected(wrong_usage(not_a_time(part) + ".")), as_json);
            times.push_back(*t);
        }
        if (times.empty()) return finish(std::unexpected(wrong_usage("--at needs at least one time.")), as_json);
        return finish(frames(source, times, out, replace), as_json);
    }
    if (key_command->parsed()) {
        auto kept = KeyFile().set(host, access_key);
        return finish(kept ? Result<json>(json{
                                 {"host", host}, {"kept", !access_key.empty()}, {"file", KeyFile::standard().string()}})
                           : std::unexpected(kept.error()),
                      as_json);
    }
    if (check_line->parsed()) {
        int exit = 0;
        auto document = check_command(check_words, exit);
        if (!document || as_json) return finish(document, as_json, exit);
        auto lines = check_lines(*document);
        std::fwrite(lines.data(), 1, lines.size(), stdout);
        return said(exit);
    }
    if (targets_command->parsed()) return finish(list_targets(), as_json);
    if (prepare_command_line->parsed()) return finish(prepare_command(source, target, makes), as_json);
    if (recipe_command_line->parsed()) return finish(recipe_command(source, target), as_json);
    if (stills_command_line->parsed()) {
        still_words.in = source;
        return finish(stills_command(still_words), as_json);
    }
    if (jobs_command_line->parsed()) return finish(jobs_command(job_words), as_json);
    if (adapt_command_line->parsed()) return finish(adapt_command(adapt_words), as_json);
    if (ladder_command_line->parsed()) {
        ladder_words.in = source;
        return finish(ladder_command(ladder_words), as_json);
    }
    if (host_command_line->parsed()) {
        auto served = host_command(host_words);
        return served ? 0 : finish(std::unexpected(served.error()), as_json || json_lines);
    }
    if (compare_command_line->parsed()) return finish(compare_command(source, out, at), as_json);
    if (convert_command_line->parsed()) {
        words.in = source;
        return finish(convert_command(words), as_json);
    }
    if (arrange_command->parsed()) {
        ArrangeOptions o;
        auto outcome = [&]() -> Result<json> {
            std::string why;
            auto calls = parse_script(script, why, true);
            if (!calls) return std::unexpected(wrong_usage(why));
            o.script = std::move(*calls);
            RUEDO_TRY(auto moments, read_times(at));
            auto far = o.script.empty() ? Time{} : o.script.back().at;
            if (!moments.empty()) far = *std::max_element(moments.begin(), moments.end());
            if (far > 86400_s) return std::unexpected(wrong_usage("A moment is at most a day away."));
            if (arrange_command->count("--shot") && shot.empty())
                return std::unexpected(wrong_usage("--shot names no file."));
            RUEDO_TRY(auto document, load_document(source));
            o.folder = fs::absolute(source).parent_path();
            o.document = for_target(std::move(document), o.folder);
            RUEDO_TRY_DO(mount_for(o, mount, size));
            RUEDO_TRY_DO(source_for(o, source_name));
            std::error_code ec;
            if (!shot.empty() && !replace && fs::exists(shot, ec))
                return fail(ErrorCode::exists, fmt::format("“{}” exists already.", shot),
                            "Choose another name, or say --replace.");
            if (!network_trace.empty()) {
                RUEDO_TRY(o.network_trace, stream::find_network_trace(network_trace));
            }
            // Each moment is come to from the beginning, which in virtual time is the same every time.
            json several = json::array();
            for (std::size_t i = 0; i + 1 < moments.size(); ++i) {
                o.at = moments[i];
                RUEDO_TRY(auto then, arrange(o));
                several.push_back(to_json(then, mount_name(o.document.mount)));
                several.back()["at_ns"] = moments[i].ns;
            }
            if (!moments.empty()) o.at = moments.back();
            RUEDO_TRY(auto arranged, arrange(o));
            if (!shot.empty()) {
                RUEDO_TRY(auto image, screens.shot(arranged, argc, argv));
                RUEDO_TRY_DO(write_png(shot, image, replacing(replace)));
            }
            auto last = to_json(arranged, mount_name(o.document.mount));
            if (moments.size() < 2) return last;
            last["at_ns"] = moments.back().ns;
            several.push_back(std::move(last));
            return json{{"moments", std::move(several)}};
        };
        return finish(outcome(), as_json);
    }
    if (pack_command->parsed()) return finish(pack_project(source, out, outside, replace), as_json);

    HeadlessOptions options;
    options.source = source;
    options.audio = audio;
    options.replace = replace;
    if (clock != "real" && clock != "virtual")
        return finish(std::unexpected(wrong_usage("--clock is virtual or real.")), as_json);
    options.virtual_time = clock == "virtual";
    auto stream = stream_options(policy, rung, start);
    if (!stream) return finish(std::unexpected(stream.error()), as_json);
    options.stream = *stream;
    if (!network_trace.empty()) {
        if (!options.virtual_time)
            return finish(std::unexpected(wrong_usage(
                              "--weather is for virtual time; by the real clock “ruedo host --weather” serves in it.")),
                          as_json);
        auto link = stream::find_network_trace(network_trace);
        if (!link) return finish(std::unexpected(link.error()), as_json);
        options.network_trace = std::move(*link);
    }
    if (play_command->count("--sound") && audio.empty())
        return finish(std::unexpected(wrong_usage("--sound names no file.")), as_json);
    if (options.virtual_time && is_camera(source))
        return finish(std::unexpected(wrong_usage("A camera needs the real clock.")), as_json);
    if (options.virtual_time && in_window)
        return finish(std::unexpected(wrong_usage("A window needs the real clock.")), as_json);
    if (!length.empty()) {
        options.length = parse_time(length);
        if (!options.length) return finish(std::unexpected(wrong_usage(not_a_time(length) + ".")), as_json);
    }
    if (loop && !options.length)
        return finish(std::unexpected(wrong_usage("A loop has no end, so --loop needs --for.")), as_json);
    if (loop) options.open.loop.kind = Loop::Kind::all;
    std::string why;
    auto calls = parse_script(script, why);
    if (!calls) return finish(std::unexpected(wrong_usage(why)), as_json);
    options.script = std::move(*calls);
    auto counts = std::make_shared<LiveTranscodeCounts>();
    if (play_command->count("--through")) {
        auto found = find_target(target);
        if (!found) return finish(std::unexpected(found.error()), as_json);
        options.open_clip = [counts, taken = *found](const std::string& name) -> Result<std::unique_ptr<Clip>> {
            RUEDO_TRY(auto clip, open_clip(name));
            return open_live_transcode(std::move(clip), {.target = taken, .counts = counts}, CodecRegistry::standard());
        };
    }
    auto result = in_window ? screens.play(options, argc, argv) : play_headless(options);
    if (options.open_clip && result.report.contains("state"))
        result.report["converter"] = {{"first_picture_ms", static_cast<double>(counts->first_frame_ns) / 1e6},
                                      {"restarts", counts->restarts.load()},
                                      {"kept_bytes", counts->kept_bytes.load()}};
    return finish(result.report, result.exit, as_json);
}

}  // namespace

int run_command(int argc, char** argv, const Screens& screens) {
    forget_reads();
    try {
        return run(argc, argv, screens);
    } catch (const std::exception& e) {
        bool as_json = std::any_of(argv, argv + argc, [](const char* a) { return std::string_view(a) == "--json"; });
        return finish(std::unexpected(Error{ErrorCode::internal, fmt::format("A fault inside: {}.", e.what()),
                                            "It is ours; tell who made this program how to bring it about."}),
                      as_json);
    }
}

}  // namespace ruedo
