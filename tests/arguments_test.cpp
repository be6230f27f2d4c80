// SPDX-License-Identifier: GPL-3.0-or-later
// The command line against all that can be typed: one document, one of four exit codes, nothing left behind.
#include <fcntl.h>

#include <iostream>

#include "commands.h"
#include "support.h"

using namespace ruedo;
using namespace ruedo::test;
using nlohmann::json;

namespace {
/// Runs a command in this process, its standard output taken.
struct Ran {
    int exit = 0;
    std::string out;
};
Ran run(std::vector<std::string> words, const char* to = nullptr) {
    Folder folder;
    auto path = (folder / "out").string();
    std::fflush(stdout), std::fflush(stderr);
    int out = ::dup(1), error = ::dup(2);
    int file = ::open(to ? to : path.c_str(), O_WRONLY | O_CREAT | O_TRUNC, 0600),
        nowhere = ::open("/dev/null", O_WRONLY);
    ::dup2(file, 1), ::dup2(nowhere, 2);
    words.insert(words.begin(), "ruedo");
    std::vector<char*> argv;
    for (auto& w : words) argv.push_back(w.data());
    argv.push_back(nullptr);
    Ran ran;
    Screens screens;
    screens.play = [](const HeadlessOptions&, int&, char**) { return HeadlessResult{{{"state", "ended"}}, 0}; };
    screens.shot = [](const Arranged& a, int&, char**) -> Result<RgbImage> {
        RgbImage image{a.mount.width, a.mount.height, {}};
        image.pixels.resize(static_cast<std::size_t>(a.mount.width) * static_cast<std::size_t>(a.mount.height) * 4);
        return image;
    };
    ran.exit = run_command(static_cast<int>(words.size()), argv.data(), screens);
    std::fflush(stdout), std::fflush(stderr);
    std::clearerr(stdout), std::cout.clear();
    ::dup2(out, 1), ::dup2(error, 2);
    for (int fd : {out, error, file, nowhere}) ::close(fd);
    if (!to) {
        std::ifstream in(path, std::ios::binary);
        ran.out.assign(std::istreambuf_iterator<char>(in), {});
    }
    return ran;
}
std::string code_of(const Ran& ran) {
    auto j = json::parse(ran.out, nullptr, false);
    return j.is_object() && j.contains("error") && j["error"].is_object() ? j["error"].value("code", "") : "";
}
struct Command {
    const char* name;
    bool subject;
    std::vector<const char*> with_value, flags;
};
/// Every option of every command. A new one is added here, and is tried with everything.
const std::vector<Command> commands{
    {"inspect", true, {"--target"}, {}},
    {"frames", true, {"--at", "--out"}, {"--replace"}},
    {"play", true, {"--clock", "--for", "--do", "--sound"}, {"--loop", "--replace"}},
    {"pack", true, {"--out"}, {}},
    {"arrange", true, {"--mount", "--size", "--source", "--do", "--at", "--shot"}, {"--replace"}},
    {"targets", false, {}, {}}};
}  // namespace

TEST_CASE("Whatever is typed, there is one document and an exit code that says which kind", "[command-line]") {
    Folder folder;
    auto here = fs::current_path();
    fs::current_path(folder.path);
    fs::copy_file(fixture("audio_opus.ogg"), folder / "a.ogg");
    put(folder / "text.txt", Bytes{'a', 'b', 'c'});
    auto at = [&](const char* name) { return (folder / name).string(); };
    std::vector<std::string> values{"",
                                    " ",
                                    "-",
                                    "--",
                                    "0",
                                    "-1",
                                    "1s",
                                    "0s",
                                    "99999999999999999999s",
                                    "4611686018427387905ns",
                                    "1h",
                                    "1:00:00.000",
                                    "1e3s",
                                    "nan",
                                    "inf",
                                    "\xFF\xFE",
                                    "\n",
                                    "%s%n",
                                    "virtual",
                                    "real",
                                    "1s pause",
                                    "1s pause; 0s pause",
                                    "1s seek 99999999s",
                                    ";;;",
                                    "1s step 999999999999",
                                    "1s rate nan",
                                    "desktop",
                                    "/dev/null/x",
                                    "/proc/x",
                                    at("no/such/place"),
                                    at("text.txt"),
                                    std::string(5000, 'x')};
    std::vector<std::string> subjects{
        at("a.ogg"), at("text.txt"), at("none"),         "",        folder.path.string(),   "/dev/null",
        "/dev/zero", "camera://",    "camera://nowhere", "http://", "http://127.0.0.1:1/x", "catalogue://",
        "\xFF.mp4"};
    std::mt19937 random(71);
    for (int i = 0; i < 600; ++i) {
        auto& command = commands[random() % commands.size()];
        std::vector<std::string> words{command.name};
        if (command.subject && random() % 20)
            words.push_back(random() % 3 ? at("a.ogg") : subjects[random() % subjects.size()]);
        for (auto* option : command.with_value)
            if (random() % 2) words.push_back(option), words.push_back(values[random() % values.size()]);
        for (auto* flag : command.flags)
            if (random() % 3 == 0) words.push_back(flag);
        // Nothing here may take long: what plays does so in virtual time, or for a moment.
        if (words[0] == "play" && std::find(words.begin(), words.end(), "--clock") == words.end())
            words.push_back("--clock"), words.push_back("virtual");
        if (random() % 40 == 0) words.push_back(values[random() % values.size()]);
        bool real = std::find(words.begin(), words.end(), "real") != words.end();
        if (words[0] == "play" && real) continue;
        words.push_back("--json");
        std::string line;
        for (auto& w : words) line += "[" + w.substr(0, 60) + "] ";
        INFO(line);
        auto ran = run(words);
        CHECK((ran.exit == 0 || ran.exit == 1 || ran.exit == 2));
        auto document = json::parse(ran.out, nullptr, false);
        REQUIRE_FALSE(document.is_discarded());
        auto code = code_of(ran);
        CHECK(code != "internal");
        CHECK((ran.exit == 2) == (code == "usage"));
        if (ran.exit != 0) CHECK_FALSE(code.empty());
        fs::remove_all(folder.path / "out");
    }
    // Nothing half made, and nothing of what was there is changed.
    for (auto& e : fs::recursive_directory_iterator(folder.path)) CHECK_FALSE(e.path().string().ends_with(".part"));
    CHECK(bytes_of(folder / "a.ogg") == bytes_of(fixture("audio_opus.ogg")));
    CHECK(bytes_of(folder / "text.txt").size() == 3);
    fs::current_path(here);
}

TEST_CASE("An output never takes the place of what is there, and never that of the input", "[command-line]") {
    Folder folder;
    auto clip = (folder / "clip.webm").string(), other = (folder / "other.wav").string();
    fs::copy_file(fixture("audio_opus.ogg"), clip);
    put(other, Bytes{1, 2, 3});
    auto play = [&](std::vector<std::string> more) {
        std::vector<std::string> words{"play", clip, "--clock", "virtual", "--json"};
        words.insert(words.end(), more.begin(), more.end());
        return run(words);
    };
    CHECK(code_of(play({"--sound", clip})) == "exists");
    CHECK(code_of(play({"--sound", clip, "--replace"})) == "exists");
    fs::create_symlink(clip, folder / "link.wav");
    fs::create_hard_link(clip, folder / "hard.wav");
    CHECK(code_of(play({"--sound", (folder / "link.wav").string(), "--replace"})) == "exists");
    CHECK(code_of(play({"--sound", (folder / "hard.wav").string(), "--replace"})) == "exists");
    CHECK(code_of(play({"--sound", "/dev/null", "--replace"})) == "refused");
    CHECK(bytes_of(clip) == bytes_of(fixture("audio_opus.ogg")));
    CHECK(code_of(play({"--sound", other})) == "exists");
    CHECK(bytes_of(other).size() == 3);
    CHECK(play({"--sound", other, "--replace"}).exit == 0);
    CHECK(bytes_of(other).size() > 100'000);
    auto frames = [&](bool replace) {
        std::vector<std::string> words{"frames", fixture("vp9_opus.webm").string(), "--at",  "1s",
                                       "--out",  (folder / "f").string(),           "--json"};
        if (replace) words.push_back("--replace");
        return run(words);
    };
    CHECK(frames(false).exit == 0);
    CHECK(code_of(frames(false)) == "exists");
    CHECK(frames(true).exit == 0);
}

TEST_CASE("Help and versions are documents too, slips are guessed, and a full disk is no success", "[command-line]") {
    CHECK(json::parse(run({"--help", "--json"}).out).contains("help"));
    CHECK(json::parse(run({"play", "--help", "--json"}).out).contains("help"));
    CHECK(json::parse(run({"--version", "--json"}).out).contains("version"));
    for (auto [slip, meant] :
         {std::pair{"inspec", "inspect"}, {"plya", "play"}, {"frame", "frames"}, {"pakc", "pack"}}) {
        auto ran = run({slip, "x.mp4", "--json"});
        INFO(slip);
        CHECK(ran.exit == 2);
        CHECK(json::parse(ran.out)["error"]["hint"].get<std::string>().find(meant) != std::string::npos);
    }
    CHECK(run({"inspect", fixture("audio_opus.ogg").string(), "--json"}, "/dev/full").exit == 1);
    for (auto words : std::vector<std::vector<std::string>>{
             {"targets", "--json"}, {"targets"}, {"--help"}, {"--version"}, {"play", "--help"}})
        CHECK(run(words, "/dev/full").exit == 1);
    // A file in the place of a folder is called that.
    auto clip = fixture("vp9_small.webm").string();
    for (auto command : {"frames", "stills"}) {
        auto ran = run({command, clip, "--at", "0s", "--out", clip, "--json"});
        CHECK(ran.exit == 1);
        CHECK(json::parse(ran.out)["error"]["code"] == "exists");
        auto below = run({command, clip, "--at", "0s", "--out", clip + "/x", "--json"});
        CHECK(json::parse(below.out)["error"]["sentence"].get<std::string>().find("a file, not a folder") !=
              std::string::npos);
    }
    // What steers a terminal stays in the document and does not reach the terminal.
    Folder folder;
    auto name = (folder / "a\x1b[31m\x07z.ogg").string();
    fs::copy_file(fixture("audio_opus.ogg"), name);
    put(name + ".bad", Bytes{1, 2, 3, 4, 5, 6, 7, 8, 9});
    auto plain = run({"play", name, "--clock", "virtual"});
    CHECK(plain.exit == 0);
    CHECK(plain.out.find('\x1b') == std::string::npos);
    CHECK(plain.out.find('\x07') == std::string::npos);
}

TEST_CASE("Commands work where there is no home and no working folder any more", "[command-line]") {
    auto* home = std::getenv("HOME");
    std::string kept = home ? home : "";
    auto* config = std::getenv("XDG_CONFIG_HOME");
    std::string kept_config = config ? config : "";
    ::unsetenv("HOME"), ::unsetenv("XDG_CONFIG_HOME");
    auto ran = run({"key", "harbour.test", "abc", "--json"});
    CHECK(ran.exit == 1);
    CHECK(code_of(ran) == "not-found");
    CHECK_FALSE(fs::exists(".config"));
    if (!kept.empty()) ::setenv("HOME", kept.c_str(), 1);
    if (!kept_config.empty()) ::setenv("XDG_CONFIG_HOME", kept_config.c_str(), 1);
    auto here = fs::current_path();
    {
        Folder gone;
        fs::current_path(gone.path);
        fs::remove_all(gone.path);
        for (auto words : {std::vector<std::string>{"inspect", "a.mp4"},
                           {"play", "a.mp4", "--clock", "virtual"},
                           {"pack", "a.ruedo", "--out", "b"},
                           {"frames", "a.mp4", "--at", "1s", "--out", "b"}}) {
            words.push_back("--json");
            INFO(words[0]);
            auto r = run(words);
            CHECK(r.exit == 1);
            CHECK(code_of(r) != "internal");
            CHECK_FALSE(code_of(r).empty());
        }
    }
    fs::current_path(here);
}
