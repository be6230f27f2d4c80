// SPDX-License-Identifier: Apache-2.0
#include "pack/pack.h"

#include <sys/wait.h>

#include <set>

#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
struct Shop {
    Folder folder;
    PlayerDocument document;
    Shop(std::initializer_list<const char*> files) {
        document.app_name = "Harbour Lights";
        for (auto file : files) {
            fs::copy_file(fixture(file), folder / file);
            SourceSpec s;
            s.name = s.file = file;
            document.sources.push_back(s);
        }
    }
    /// Any executable stands for the player where only its bytes matter.
    Result<Packed> pack_into(const fs::path& out, const PackProgress& progress = {},
                             const std::function<bool(const fs::path&)>& outside = {}) const {
        return pack(document, folder.path, out, "/bin/true", CodecRegistry::standard(), {progress, outside});
    }
};
}  // namespace

TEST_CASE("A packed app holds what it needs, and its list says so", "[pack]") {
    Shop shop{"vp9_opus.webm"};
    auto packed = value(shop.pack_into(shop.folder / "out"));
    CHECK(packed.executable == shop.folder / "out" / "harbour-lights");
    CHECK((fs::status(packed.executable).permissions() & fs::perms::owner_exec) != fs::perms::none);
    std::uint64_t sum = 0;
    std::set<std::string> listed, there;
    for (auto& i : packed.items) {
        CHECK(fs::file_size(packed.folder / i.path) == i.bytes);
        sum += i.bytes;
        listed.insert(i.path);
    }
    for (auto& e : fs::recursive_directory_iterator(packed.folder))
        if (e.is_regular_file()) there.insert(e.path().lexically_relative(packed.folder).string());
    CHECK(listed == there);
    CHECK(sum == packed.bytes);
    CHECK(listed.contains("lib/codec-vpx.so"));
    CHECK(listed.contains("lib/codec-opus.so"));
    CHECK_FALSE(listed.contains("lib/codec-aac-decode.so"));
    auto inside = value(load_document(packed.folder / "player.json"));
    CHECK(inside.sources.at(0).file == "media/vp9_opus.webm");
    CHECK(bytes_of(packed.folder / "media/vp9_opus.webm") == bytes_of(fixture("vp9_opus.webm")));
}

TEST_CASE("An app holds what any sound needs that can be chosen in it, and nothing for what can't be played",
          "[pack]") {
    Shop shop{"two_audio_languages.mkv"};
    auto modules = [&](Codec second, bool fails) {
        auto ask = [&](const std::string& path) -> Result<ClipInfo> {
            auto info = value(info_of(path));
            auto& track = info.tracks.at(2);
            REQUIRE(track.kind == Kind::audio);
            track.codec = second;
            if (fails) track.problem = Error{ErrorCode::malformed, "It is damaged.", ""};
            return info;
        };
        std::set<std::string> names;
        for (auto& m : value(needs_of(shop.document, shop.folder.path, CodecRegistry::standard(), ask)).modules)
            names.insert(m.file.stem().string());
        return names;
    };
    auto usual = modules(Codec::opus, false);
    CHECK(usual.contains("codec-opus"));
    for (auto [codec, name] : {std::pair{Codec::mp3, "codec-mp3"},
                               {Codec::flac, "codec-flac"},
                               {Codec::ac3, "codec-ac3"},
                               {Codec::aac, "codec-aac-decode"}}) {
        INFO(name);
        auto with = usual;
        with.insert(name);
        CHECK(modules(codec, false) == with);
        CHECK(modules(codec, true) == usual);
    }
    CHECK(modules(Codec::unknown, false) == usual);
}

TEST_CASE("The licence follows from the media", "[pack]") {
    CHECK(value(Shop{"vp9_opus.webm"}.pack_into("/tmp/ruedo-licence-a-" + std::to_string(getpid()))).licence ==
          "Apache-2.0 AND BSD-3-Clause");
    CHECK(value(Shop{"h264_high_aac.mp4"}.pack_into("/tmp/ruedo-licence-b-" + std::to_string(getpid())))
              .licence.find("GPL-3.0-or-later") != std::string::npos);
    fs::remove_all("/tmp/ruedo-licence-a-" + std::to_string(getpid()));
    fs::remove_all("/tmp/ruedo-licence-b-" + std::to_string(getpid()));
}

TEST_CASE("Packing is whole or not at all", "[pack]") {
    Shop shop{"vp9_opus.webm", "h264_high_aac.mp4"};
    auto out = shop.folder / "out";
    auto before = std::distance(fs::directory_iterator(shop.folder.path), {});
    for (std::uint64_t stop_at : {1ULL, 60'000ULL, 200'000ULL, 300'000ULL}) {
        auto result =
            shop.pack_into(out, [&](std::uint64_t done_bytes, std::uint64_t) { return done_bytes < stop_at; });
        REQUIRE_FALSE(result.has_value());
        CHECK(result.error().code == ErrorCode::cancelled);
        CHECK(std::distance(fs::directory_iterator(shop.folder.path), {}) == before);
    }
    fs::create_directory(out);
    CHECK(shop.pack_into(out).error().code == ErrorCode::exists);
    CHECK(fs::is_empty(out));
    CHECK(shop.pack_into(shop.folder.path / "no" / "such" / "place").error().code == ErrorCode::not_found);
    CHECK_FALSE(shop.pack_into("/proc/ruedo-out").has_value());
    struct {
        PlayerDocument document;
        fs::path from;
        Result<Packed> pack_into(const fs::path& to) const {
            return pack(document, from, to, "/bin/true", CodecRegistry::standard());
        }
    } lost{shop.document, shop.folder.path};
    lost.document.sources[1].file = "gone.mp4";
    CHECK(lost.pack_into(shop.folder / "other").error().code == ErrorCode::not_found);
    CHECK_FALSE(fs::exists(shop.folder / "other"));
    lost.document.sources.clear();
    CHECK(lost.pack_into(shop.folder / "other").error().code == ErrorCode::empty);
}

TEST_CASE("Nothing goes into an app but what it is used as, and from outside only what was confirmed", "[pack]") {
    Shop shop{"vp9_opus.webm"};
    auto& source = shop.document.sources[0];
    auto before = std::distance(fs::directory_iterator(shop.folder.path), {});
    auto refused = [&](auto&& change) {
        auto kept = source;
        change();
        auto packed = shop.pack_into(shop.folder / "out");
        source = kept;
        CHECK_FALSE(packed.has_value());
        CHECK(std::distance(fs::directory_iterator(shop.folder.path), {}) == before);
        if (packed) return ErrorCode::internal;
        CHECK_FALSE(packed.error().sentence.empty());
        return packed.error().code;
    };
    for (auto secret : {"/etc/passwd", "/etc/group", "/etc/hostname", "/proc/self/environ"}) {
        INFO(secret);
        if (!fs::exists(secret)) continue;
        CHECK((refused([&] { source.captions = {secret}; }) != ErrorCode::internal));
        CHECK((refused([&] { source.poster = secret; }) != ErrorCode::internal));
        CHECK((refused([&] { source.file = secret; }) != ErrorCode::internal));
        // Beside a camera, which need not be there, as beside a clip.
        CHECK((refused([&] { source.file = "camera://harbour", source.captions = {secret}; }) != ErrorCode::internal));
        CHECK((refused([&] { source.file = "camera://harbour", source.poster = secret; }) != ErrorCode::internal));
    }
    // By a name inside that leads outside, too.
    fs::create_symlink("/etc/passwd", shop.folder / "harmless.en.vtt");
    ++before;
    CHECK((refused([&] { source.captions = {"harmless.en.vtt"}; }) != ErrorCode::internal));
    // What is what it should be may come from elsewhere when that was meant; it is said.
    Folder elsewhere;
    std::string vtt = "WEBVTT\n\n00:00.000 --> 00:02.000\nThe lamp turns.\n";
    put(elsewhere / "clip.en.vtt", {reinterpret_cast<const std::uint8_t*>(vtt.data()), vtt.size()});
    source.captions = {(elsewhere / "clip.en.vtt").string()};
    CHECK(refused([] {}) == ErrorCode::refused);
    auto confirm = [&](const fs::path& file) { return file == elsewhere / "clip.en.vtt"; };
    fs::copy_file(fixture("audio_opus.ogg"), elsewhere / "more.ogg");
    auto kept = source;
    source.file = (elsewhere / "more.ogg").string();
    CHECK(shop.pack_into(shop.folder / "out", {}, confirm).error().code == ErrorCode::refused);  // not all of it was
    source = kept;
    auto packed = value(shop.pack_into(shop.folder / "out", {}, confirm));
    REQUIRE(packed.findings.size() == 1);
    CHECK(packed.findings[0].code == "outside");
    CHECK(packed.findings[0].sentence.find("clip.en.vtt") != std::string::npos);
    source.captions.clear();
    CHECK(value(shop.pack_into(shop.folder / "again")).findings.empty());
}

TEST_CASE("Apps called as the folders beside them are, and folders without a name", "[pack]") {
    for (auto name : {"Media", "Lib", "LICENCES.txt", "player.json"}) {
        Shop shop{"audio_opus.ogg"};
        shop.document.app_name = name;
        INFO(name);
        auto packed = value(shop.pack_into(shop.folder / "out"));
        CHECK(fs::is_regular_file(packed.executable));
        CHECK(fs::is_directory(packed.folder / "media"));
    }
    Shop shop{"audio_opus.ogg"};
    auto nameless = shop.pack_into("");
    REQUIRE_FALSE(nameless.has_value());
    CHECK(nameless.error().code == ErrorCode::usage);
}

TEST_CASE("What a process that was killed left behind is cleared by the next one, and nobody else's", "[pack]") {
    Shop shop{"audio_opus.ogg"};
    // A process that has ended, and one that has not.
    auto child = ::fork();
    if (child == 0) ::_exit(0);
    int status = 0;
    REQUIRE(::waitpid(child, &status, 0) == child);
    auto name = [](const std::string& of, int pid) { return "." + of + "." + std::to_string(pid) + "-0.part"; };
    std::vector<fs::path> dead{shop.folder / name("out", child), shop.folder / name("another.name-1", child)};
    std::vector<fs::path> kept{shop.folder / name("out", ::getppid()),
                               shop.folder / ".out.part",
                               shop.folder / (".out." + std::to_string(child) + ".part"),
                               shop.folder / ("out." + std::to_string(child) + "-0.part"),
                               shop.folder / (".out." + std::to_string(child) + "-0.partly"),
                               shop.folder / ".out.x-0.part"};
    for (auto* list : {&dead, &kept})
        for (auto& path : *list) fs::create_directories(path / "media");
    value(shop.pack_into(shop.folder / "out"));
    for (auto& path : dead) CHECK_FALSE(fs::exists(path));
    for (auto& path : kept) CHECK(fs::exists(path));
    // The same for single files.
    Folder fresh;
    auto file = fresh / name("a.wav", child);
    {
        std::ofstream(file) << "half";
    }
    put(fresh / "b.wav", Bytes{1, 2});
    CHECK_FALSE(fs::exists(file));
}

TEST_CASE("What is finished comes to its place where the file system can't refuse to replace", "[pack]") {
    Folder folder;
    put(folder / "made", Bytes{1});
    put(folder / "there", Bytes{2});
    auto taken = move_into_place(folder / "made", folder / "there");
    REQUIRE_FALSE(taken.has_value());
    CHECK(taken.error().code == ErrorCode::exists);
    CHECK(bytes_of(folder / "there") == Bytes{2});
    done(move_into_place(folder / "made", folder / "free"));
    CHECK(bytes_of(folder / "free") == Bytes{1});
    CHECK_FALSE(fs::exists(folder / "made"));
}

TEST_CASE("Two media of one name both go in, one used twice goes in once", "[pack]") {
    Shop shop{"vp9_opus.webm"};
    fs::create_directory(shop.folder / "b");
    fs::copy_file(fixture("vp8_vorbis.webm"), shop.folder / "b" / "vp9_opus.webm");
    auto again = shop.document.sources[0], other = again;
    other.file = "b/vp9_opus.webm";
    std::string vtt = "WEBVTT\n\n00:00.000 --> 00:02.000\nThe lamp turns.\n";
    put(shop.folder / "a.en.vtt", {reinterpret_cast<const std::uint8_t*>(vtt.data()), vtt.size()});
    again.captions = {"a.en.vtt"};
    shop.document.sources = {again, other, again};
    std::uint64_t so_far = 0, whole = 0;
    auto packed = value(shop.pack_into(shop.folder / "out", [&](std::uint64_t done_bytes, std::uint64_t all) {
        CHECK((done_bytes > so_far && done_bytes <= all && (!whole || whole == all)));
        so_far = done_bytes, whole = all;
        return true;
    }));
    // How far it is is told of all that is copied, and what was foretold is what went in.
    CHECK(so_far == whole);
    std::uint64_t copied = 0, media = 0, estimated = 0;
    for (auto& i : packed.items) {
        if (i.kind == "executable" || i.kind == "library" || i.kind == "media") copied += i.bytes;
        if (i.kind == "media") media += i.bytes;
    }
    CHECK(copied == whole);
    auto needs = value(needs_of(shop.document, shop.folder.path, CodecRegistry::standard()));
    CHECK(needs.media.size() == 3);
    for (auto& [path, bytes] : needs.media) estimated += bytes;
    CHECK(estimated == media);
    auto inside = value(load_document(packed.folder / "player.json"));
    CHECK(inside.sources[0].file == inside.sources[2].file);
    CHECK(inside.sources[0].file != inside.sources[1].file);
    CHECK(bytes_of(packed.folder / inside.sources[1].file) == bytes_of(fixture("vp8_vorbis.webm")));
    CHECK(std::distance(fs::directory_iterator(packed.folder / "media"), {}) == 3);
}

TEST_CASE("A stream on disk is packed with all that it is made of, and plays from there", "[pack]") {
    Shop shop{"vp9_opus.webm"};
    for (auto name : {"one", "two"}) {
        fs::create_directories(shop.folder / name);
        fs::copy(fixture("streams/fmp4"), shop.folder.path / name / "coast", fs::copy_options::recursive);
        SourceSpec s;
        s.name = name, s.file = std::string(name) + "/coast/master.m3u8";
        shop.document.sources.push_back(s);
    }
    auto packed = value(shop.pack_into(shop.folder / "out"));
    auto inside = value(load_document(packed.folder / "player.json"));
    // Two of one name each have a folder of their own.
    CHECK(inside.sources.at(1).file == "media/coast/master.m3u8");
    CHECK(inside.sources.at(2).file == "media/coast-2/master.m3u8");
    fs::remove_all(shop.folder / "one"), fs::remove_all(shop.folder / "two");
    for (std::size_t i : {1, 2}) {
        std::shared_ptr<Clip> clip = value(open_clip((packed.folder / inside.sources[i].file).string()));
        CHECK(value(scan_track(*clip, *clip->info().main(Kind::video))).frame_count == 180);
        CHECK(value(scan_track(*clip, *clip->info().main(Kind::audio))).frame_count > 250);
    }
    // What names something elsewhere is not packed half.
    Shop other{"vp9_opus.webm"};
    fs::copy(fixture("streams/fmp4"), other.folder / "coast", fs::copy_options::recursive);
    fs::rename(other.folder / "coast/audio", other.folder / "audio");
    auto text = bytes_of(other.folder / "coast/master.m3u8");
    std::string master(text.begin(), text.end());
    master.replace(master.find("audio/index"), 5, "../audio");
    fs::remove(other.folder / "coast/master.m3u8");
    put(other.folder / "coast/master.m3u8",
        ByteView(reinterpret_cast<const std::uint8_t*>(master.data()), master.size()));
    SourceSpec s;
    s.name = "far", s.file = "coast/master.m3u8";
    other.document.sources.push_back(s);
    auto refused = other.pack_into(other.folder / "out");
    REQUIRE(!refused);
    CHECK(refused.error().code == ErrorCode::refused);
}
