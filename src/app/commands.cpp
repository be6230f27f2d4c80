// SPDX-License-Identifier: GPL-3.0-or-later
#include "commands.h"

#include <fmt/format.h>

#include <CLI/CLI.hpp>
#include <cstdio>
#include <iostream>

#include "catalogue/catalogue.h"
#include "convert/targets.h"
#include "pack/pack.h"

namespace ruedo {
namespace fs = std::filesystem;
using nlohmann::json;
namespace {

json text_or_null(const std::string& s) { return s.empty() ? json(nullptr) : json(s); }

json track_json(const Track& t, const TrackFacts& f) {
    json j{{"id", t.id},
           {"kind", std::string(kind_name(t.kind))},
           {"codec", std::string(codec_name(t.codec))},
           {"codec_string", text_or_null(t.codec_string)},
           {"language", text_or_null(t.language)},
           {"default", t.is_default},
           {"start_ns", f.start.ns},
           {"duration_ns", std::max<std::int64_t>(0, (f.end - f.start).ns)}};
    if (t.kind == Kind::video) {
        j["width"] = t.video.width;
        j["height"] = t.video.height;
        j["display_width"] = t.video.display_width();
        j["display_height"] = t.video.display_height();
        j["rotation"] = t.video.rotation;
        j["frame_count"] = f.frame_count;
        j["frame_rate"] = f.frame_rate.stated() ? json(fmt::format("{}/{}", f.frame_rate.num, f.frame_rate.den)) : json(nullptr);
        json keys = json::array();
        for (auto k : f.keyframe_times) keys.push_back(k.ns);
        j["keyframe_times_ns"] = std::move(keys);
    }
    if (t.kind == Kind::audio) {
        j["sample_rate"] = t.audio.rate;
        j["channels"] = t.audio.channels;
    }
    return j;
}

Result<json> inspect(const std::string& source, const std::string& target_name, int& exit) {
    std::optional<Target> target;
    if (!target_name.empty()) {
        TRY(target, find_target(target_name));
    }
    TRY(auto opened, open_clip(source));
    std::shared_ptr<Clip> clip = std::move(opened);
    auto playable = select_tracks(clip->info(), CodecRegistry::standard());
    TRY(auto facts, gather_facts(clip, CodecRegistry::standard(), source, {.loudness = false, .cancel = nullptr, .so_far = {}}));
    json tracks = json::array();
    for (std::size_t i = 0; i < facts.tracks.size(); ++i) tracks.push_back(track_json(facts.info.tracks[i], facts.tracks[i]));
    json findings = json::array();
    for (auto& f : facts.findings) findings.push_back({{"code", f.code}, {"sentence", f.sentence}, {"hint", f.hint}});
    exit = playable ? 0 : 1;
    json document{{"container", facts.info.container},
                  {"duration_ns", facts.info.duration_known ? facts.info.duration.ns : facts.duration.ns},
                  {"bytes", facts.info.bytes},
                  {"tracks", std::move(tracks)},
                  {"findings", std::move(findings)},
                  {"error", playable ? json(nullptr) : to_json(playable.error())}};
    if (target) document["verdict"] = to_json(judge(facts, *target, CodecRegistry::standard(), source));
    return document;
}

Result<json> list_targets() {
    json list = json::array();
    std::vector<Error> problems;
    for (auto& t : all_targets(&problems)) list.push_back({{"name", t.name}, {"title", t.title}, {"about", t.about}, {"containers", t.containers}});
    json wrong = json::array();
    for (auto& p : problems) wrong.push_back(to_json(p));
    return json{{"targets", std::move(list)}, {"problems", std::move(wrong)}, {"folder", user_targets_folder().string()}};
}

Result<json> frames(const std::string& source, const std::vector<Time>& times, const fs::path& out) {
    TRY(auto opened, open_clip(source));
    std::shared_ptr<Clip> clip = std::move(opened);
    TRY(auto tracks, select_tracks(clip->info(), CodecRegistry::standard()));
    if (!tracks.video) return fail(Code::not_media, fmt::format("“{}” has no pictures.", clip->info().name), "Choose a clip with pictures.");
    TRY(auto reader, PictureReader::open(clip, *tracks.video, CodecRegistry::standard()));
    std::error_code ec;
    fs::create_directories(out, ec);
    if (ec) return std::unexpected(errno_error(ec.value(), fmt::format("Making “{}”", out.string())));
    json list = json::array();
    for (std::size_t i = 0; i < times.size(); ++i) {
        if (interrupted()) return fail(Code::cancelled, "Reading frames was interrupted.", "Run it again.");
        TRY(auto picture, reader->at(times[i]));
        auto path = out / fmt::format("{:04}-{}.png", i, picture.pts.ns);
        TRY_DO(write_png(path, render(picture)));
        list.push_back({{"asked_ns", times[i].ns}, {"shown_ns", picture.pts.ns}, {"path", path.string()}, {"decoded", reader->decoded()}});
    }
    return json{{"frames", std::move(list)}};
}

Result<json> pack_project(const fs::path& project, const fs::path& out) {
    TRY(auto document, load_document(project));
    auto folder = project.has_parent_path() ? project.parent_path() : fs::path(".");
    auto player = executable_path().parent_path() / "ruedo-player";
    TRY(auto packed, pack(document, folder, out, player, CodecRegistry::standard(), [](auto, auto) { return !interrupted(); }));
    json items = json::array();
    for (auto& i : packed.items) items.push_back({{"path", i.path}, {"bytes", i.bytes}, {"kind", i.kind}});
    return json{{"path", packed.folder.string()}, {"executable", packed.executable.string()}, {"bytes", packed.bytes}, {"items", std::move(items)}, {"licence", packed.licence}};
}

/// A short reading of a document for people, when no JSON is asked for.
void print_plain(const json& j, int depth = 0) {
    std::string pad(static_cast<std::size_t>(depth) * 2, ' ');
    for (auto& [key, value] : j.items()) {
        bool list = value.is_array() && !value.empty() && value[0].is_number();
        if (list) fmt::print("{}{}: {} values\n", pad, key, value.size());
        else if (value.is_structured() && !value.empty()) {
            fmt::print("{}{}:\n", pad, j.is_array() ? "-" : key);
            print_plain(value, depth + 1);
        } else fmt::print("{}{}: {}\n", pad, key, value.is_string() ? value.get<std::string>() : value.dump());
    }
}

int finish(const json& document, int exit, bool as_json) {
    if (as_json) {
        auto text = document.dump(2, ' ', false, json::error_handler_t::replace) + "\n";
        std::fwrite(text.data(), 1, text.size(), stdout);
    } else if (document.contains("error") && document["error"].is_object() && document.size() == 1) {
        fmt::print(stderr, "{}\n{}\n", document["error"]["sentence"].get<std::string>(), document["error"]["hint"].get<std::string>());
    } else {
        print_plain(document);
    }
    std::fflush(stdout);
    return exit;
}

int finish(const Result<json>& result, bool as_json, int exit = 0) {
    if (result) return finish(*result, exit, as_json);
    return finish(error_document(result.error()), result.error().code == Code::cancelled ? 130 : result.error().code == Code::usage ? 2 : 1, as_json);
}

Error wrong_usage(std::string sentence) { return {Code::usage, std::move(sentence), "Run “ruedo --help” to see how it is used."}; }

constexpr std::array<std::string_view, 6> command_names{"inspect", "frames", "play", "pack", "targets", "key"};
}  // namespace

bool is_command(int argc, char** argv) {
    if (argc < 2) return false;
    std::string_view first = argv[1];
    if (std::find(command_names.begin(), command_names.end(), first) != command_names.end()) return true;
    // A project to open in the window is a name that exists; anything else in front is meant as a command.
    std::error_code ec;
    return first.starts_with("-") ? !first.starts_with("--project") : !fs::exists(first, ec);
}

int run_command(int argc, char** argv, const WindowedPlay& windowed) {
    bool as_json = std::find_if(argv + 1, argv + argc, [](const char* a) { return std::string_view(a) == "--json"; }) != argv + argc;
    CLI::App app{"Ruedo: a workshop for building a native video player into an app.\nWithout a subcommand it opens the window."};
    app.set_version_flag("--version", std::string("ruedo ") + RUEDO_VERSION);
    app.require_subcommand(1);
    std::string source, target, out, at, length, script, clock = "real", sound;
    bool json_flag = false, in_window = false, loop = false;
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
    frames_command->add_option("--out", out, "Folder to write into")->required();
    auto* play_command = add("play", "Plays a source and reports what happened", "SOURCE");
    play_command->add_option("--clock", clock, "virtual or real");
    play_command->add_option("--for", length, "How long, in wall or virtual time");
    play_command->add_option("--do", script, "Timed calls: \"1s pause; 2s play; 3s seek 10s\"");
    play_command->add_option("--sound", sound, "WAV file for what would be heard");
    play_command->add_flag("--window", in_window, "Play in a window");
    play_command->add_flag("--loop", loop, "Start over at the end");
    auto* pack_command = add("pack", "Makes the native app of a project", "PROJECT");
    pack_command->add_option("--out", out, "Folder to make; it must not exist")->required();
    try {
        app.parse(argc, argv);
    } catch (const CLI::Success& e) {
        return app.exit(e);
    } catch (const CLI::ParseError& e) {
        return finish(std::unexpected(wrong_usage(e.what())), as_json);
    }
    catch_interrupts();
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
            if (!t) return finish(std::unexpected(wrong_usage(fmt::format("“{}” is not a time; it needs a unit, such as 250ms.", part))), as_json);
            times.push_back(*t);
        }
        if (times.empty()) return finish(std::unexpected(wrong_usage("--at needs at least one time.")), as_json);
        return finish(frames(source, times, out), as_json);
    }
    if (key_command->parsed()) {
        auto kept = KeyFile().set(host, access_key);
        return finish(kept ? Result<json>(json{{"host", host}, {"kept", !access_key.empty()}, {"file", KeyFile::standard().string()}}) : std::unexpected(kept.error()), as_json);
    }
    if (targets_command->parsed()) return finish(list_targets(), as_json);
    if (pack_command->parsed()) return finish(pack_project(source, out), as_json);

    HeadlessOptions options;
    options.source = source;
    options.sound = sound;
    if (clock != "real" && clock != "virtual") return finish(std::unexpected(wrong_usage("--clock is virtual or real.")), as_json);
    options.virtual_time = clock == "virtual";
    if (options.virtual_time && in_window) return finish(std::unexpected(wrong_usage("A window needs the real clock.")), as_json);
    if (!length.empty()) {
        options.length = parse_time(length);
        if (!options.length) return finish(std::unexpected(wrong_usage(fmt::format("“{}” is not a time; it needs a unit, such as 5s.", length))), as_json);
    }
    if (loop && !options.length) return finish(std::unexpected(wrong_usage("A loop has no end, so --loop needs --for.")), as_json);
    if (loop) options.open.loop.kind = Loop::Kind::all;
    std::string why;
    auto calls = parse_script(script, why);
    if (!calls) return finish(std::unexpected(wrong_usage(why)), as_json);
    options.script = std::move(*calls);
    auto result = in_window ? windowed(options, argc, argv) : play_headless(options);
    return finish(result.report, result.exit, as_json);
}

}  // namespace ruedo
