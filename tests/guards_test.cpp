// SPDX-License-Identifier: Apache-2.0
// What is never written over, never let in and never left behind.
#include <nlohmann/json.hpp>
#include <set>

#include "container/container.h"
#include "convert/conversion.h"
#include "convert/jobs.h"
#include "convert/stills.h"
#include "demo/server.h"
#include "looking.h"
#include "pack/pack.h"
#include "player/remembering.h"
#include "stream/host.h"
#include "stream/weather.h"
#include "support.h"

#include <arpa/inet.h>
#include <sys/socket.h>
#include <unistd.h>

using namespace ruedo;
using namespace ruedo::test;
using nlohmann::json;

namespace {
std::set<std::string> names_in(const fs::path& folder) {
    std::set<std::string> all;
    for (auto& entry : fs::recursive_directory_iterator(folder)) all.insert(entry.path().filename().string());
    return all;
}
Bytes text(std::string_view s) { return {s.begin(), s.end()}; }
int connected(std::uint16_t port) {
    int fd = ::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
    sockaddr_in at{};
    at.sin_family = AF_INET, at.sin_port = htons(port), at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    REQUIRE(::connect(fd, reinterpret_cast<const sockaddr*>(&at), sizeof at) == 0);
    return fd;
}
std::string answer(int fd, const std::string& request) {
    (void)!::write(fd, request.data(), request.size());
    std::string all;
    char part[4096];
    for (ssize_t n; (n = ::read(fd, part, sizeof part)) > 0;) all.append(part, static_cast<std::size_t>(n));
    ::close(fd);
    return all;
}
bool soon(const std::function<bool()>& wanted) {
    for (int i = 0; i < 600 && !wanted(); ++i) ::usleep(50'000);
    return wanted();
}
std::size_t open_descriptors() {
    return static_cast<std::size_t>(std::distance(fs::directory_iterator("/proc/self/fd"), fs::directory_iterator{}));
}
}  // namespace

TEST_CASE("What was read is not written over, whatever name or link leads there", "[output]") {
    Folder folder;
    put(folder / "read.txt", text("precious"));
    put(folder / "other.txt", text("old"));
    fs::create_symlink("read.txt", folder / "soft.txt");
    fs::create_hard_link(folder / "read.txt", folder / "hard.txt");
    REQUIRE(read_file(folder / "read.txt"));
    for (auto name : {"read.txt", "soft.txt", "hard.txt"}) {
        INFO(name);
        CHECK(write_file(folder / name, text("new"), Replace::unread).error().code == ErrorCode::refused);
        CHECK(write_file(folder / name, text("new"), Replace::nothing).error().code == ErrorCode::exists);
    }
    done(write_file(folder / "other.txt", text("new"), Replace::unread));
    // Opened while the other is being written: found out at the end.
    auto writer = value(FileWriter::create(folder / "other.txt", Replace::unread));
    done(writer.write(text("newer")));
    CHECK(bytes_of(folder / "other.txt") == text("new"));
    CHECK(writer.commit().error().code == ErrorCode::refused);
    CHECK(bytes_of(folder / "other.txt") == text("new"));
    forget_reads();
    done(write_file(folder / "other.txt", text("newest"), Replace::unread));
    CHECK(bytes_of(folder / "read.txt") == text("precious"));
}

TEST_CASE("A link is written through to its plain file, and to nothing else", "[output]") {
    Folder folder;
    put(folder / "target.txt", text("old"));
    fs::create_symlink("target.txt", folder / "link.txt");
    fs::create_symlink("/dev/null", folder / "device");
    fs::create_symlink("gone", folder / "dangling");
    done(write_file(folder / "link.txt", text("new"), Replace::unread));
    CHECK(fs::is_symlink(folder / "link.txt"));
    CHECK(bytes_of(folder / "target.txt") == text("new"));
    CHECK(write_file(folder / "device", text("x"), Replace::unread).error().code == ErrorCode::refused);
    CHECK(write_file("/dev/null", text("x"), Replace::anything).error().code == ErrorCode::refused);
    CHECK_FALSE(write_file(folder / "dangling", text("x"), Replace::unread));
    CHECK(fs::is_symlink(folder / "dangling"));
    auto missing = open_file(folder / "dangling");
    CHECK(missing.error().sentence.find("is a link to “gone”") != std::string::npos);
}

TEST_CASE("Several files appear together or not at all, and a folder made for them goes with them", "[output]") {
    Folder folder;
    for (bool commits : {false, true}) {
        auto out = folder / "a" / "b";
        {
            auto batch = value(FileBatch::begin(out, Replace::nothing));
            for (auto name : {"1", "2"}) done(write_file(value(batch.place(name)), text(name)));
            CHECK_FALSE(fs::exists(out / "1"));
            if (commits) done(batch.commit());
        }
        CHECK(fs::exists(out / "2") == commits);
        CHECK(fs::exists(folder / "a") == commits);
    }
    auto again = value(FileBatch::begin(folder / "a" / "b", Replace::nothing));
    CHECK(again.place("1").error().code == ErrorCode::exists);
}

TEST_CASE("Stills and frames that are stopped leave nothing", "[output]") {
    Folder folder;
    int asked = 0;
    StillOptions o;
    o.out = folder / "stills", o.count = 6;
    o.go_on = [&] { return ++asked < 4; };
    CHECK(stills(fixture("vp9_opus.webm"), o, CodecRegistry::standard()).error().code == ErrorCode::cancelled);
    CHECK(names_in(folder.path).empty());
    o.go_on = {};
    auto made = value(stills(fixture("vp9_opus.webm"), o, CodecRegistry::standard()));
    CHECK(made.size() == 6);
    for (auto& s : made) CHECK(fs::exists(s.path));
    CHECK(names_in(folder / "stills").size() == 6);
}

TEST_CASE("A folder is replaced only where the same command made it", "[output]") {
    Folder folder;
    auto make = [&](const char* words) {
        auto at = folder / ".new.part";
        fs::create_directory(at);
        put(at / "mark", text(words));
        return at;
    };
    auto place = folder / "out";
    done(look_at_folder_place(place, false, "mark"));
    done(move_folder_into_place(make("1"), place, true));
    CHECK(look_at_folder_place(place, false, "mark").error().code == ErrorCode::exists);
    done(look_at_folder_place(place, true, "mark"));
    CHECK(look_at_folder_place(place, true, "another").error().code == ErrorCode::refused);
    done(move_folder_into_place(make("2"), place, true));
    CHECK(bytes_of(place / "mark") == text("2"));
    CHECK(names_in(folder.path) == std::set<std::string>{"out", "mark"});
    fs::create_directory_symlink(place, folder / "link");
    CHECK(look_at_folder_place(folder / "link", true, "mark").error().code == ErrorCode::refused);
}

TEST_CASE("Nothing outside the project goes into an app unasked, however a stream leads there", "[output]") {
    Folder folder;
    fs::create_directories(folder / "project" / "s");
    put(folder / "secret", text("only for me"));
    auto project = folder / "project";
    for (auto& entry : fs::recursive_directory_iterator(fixture("streams/fmp4"))) {
        auto to = project / "s" / entry.path().lexically_relative(fixture("streams/fmp4"));
        if (entry.is_directory())
            fs::create_directories(to);
        else
            fs::copy_file(entry.path(), to);
    }
    PlayerDocument d;
    d.sources.push_back({});
    d.sources[0].name = "S", d.sources[0].file = "s/master.m3u8";
    REQUIRE(value(needs_of(d, project, CodecRegistry::standard())).outside.empty());
    // One of its segments, elsewhere.
    fs::path segment;
    for (auto& entry : fs::recursive_directory_iterator(project / "s"))
        if (entry.path().extension() == ".m4s") segment = entry.path();
    REQUIRE_FALSE(segment.empty());
    fs::rename(segment, folder / "elsewhere.m4s");
    fs::create_symlink(folder / "elsewhere.m4s", segment);
    CHECK(value(needs_of(d, project, CodecRegistry::standard())).outside.size() == 1);
    auto packed = pack(d, project, folder / "app", "/bin/true", CodecRegistry::standard());
    REQUIRE_FALSE(packed);
    CHECK(packed.error().code == ErrorCode::refused);
}

TEST_CASE("A source on the network that can't be reached is packed by its address, and that is said", "[output]") {
    Folder folder;
    PlayerDocument d;
    d.app_name = "Far";
    d.sources.push_back({});
    d.sources[0].name = "Far away", d.sources[0].file = "http://127.0.0.1:9/clip.mp4";
    auto packed = value(pack(d, folder.path, folder / "app", "/bin/true", CodecRegistry::standard()));
    auto it =
        std::find_if(packed.findings.begin(), packed.findings.end(), [](auto& f) { return f.code == "not-checked"; });
    REQUIRE(it != packed.findings.end());
    CHECK(it->sentence.find("Far away") != std::string::npos);
    CHECK(std::count_if(packed.items.begin(), packed.items.end(), [](auto& i) { return i.kind == "library"; }) > 10);
}

TEST_CASE("Frames of a size that can't be are refused before any memory is asked for", "[output]") {
    auto bytes = bytes_of(fixture("vp9_small.webm"));
    auto writes = [&](std::uint8_t id, std::uint16_t v) {
        // PixelWidth (B0) and PixelHeight (BA) of one or two bytes each (RFC 9559 clause 5.1.4.1.28).
        for (std::size_t i = 0; i + 3 < bytes.size(); ++i)
            if (bytes[i] == id && bytes[i + 1] == 0x82) {
                bytes[i + 2] = static_cast<std::uint8_t>(v >> 8), bytes[i + 3] = static_cast<std::uint8_t>(v);
                return true;
            }
        return false;
    };
    Folder folder;
    bool changed = writes(0xB0, 65535) | writes(0xBA, 65535);
    REQUIRE(changed);
    put(folder / "huge.webm", bytes);
    std::shared_ptr<Clip> clip = value(open_clip((folder / "huge.webm").string()));
    CHECK(open_playable(clip, CodecRegistry::standard(), {}, {}).error().code == ErrorCode::limit);
    CHECK(frame_fits(16384, 16384));
    CHECK_FALSE(frame_fits(16385, 2));
}

TEST_CASE("A file that is no job is set aside and told of, and the others are jobs as before", "[output]") {
    Folder folder;
    JobQueue queue(folder.path);
    auto job = value(queue.add("in.webm", folder / "out.mp4", {}));
    auto good = json::parse(bytes_of(folder / "00000001.json"));
    auto bad = [&](const char* name, const std::string& words) { put(folder / name, text(words)); };
    auto with = [&](const char* member, json v) {
        auto j = good;
        j[member] = std::move(v);
        return j.dump();
    };
    bad("00000002.json", "");
    bad("00000003.json", good.dump().substr(0, 40));
    bad("00000004.json", std::string(1'000'000, '['));
    bad("00000005.json", with("id", -1));
    bad("copy.json", good.dump());
    bad("00000006.json", with("state", "dreaming"));
    bad("00000007.json", with("order", 1e300));
    auto list = queue.list();
    REQUIRE(list.size() == 1);
    CHECK(list[0].id == job.id);
    auto problems = queue.problems();
    CHECK(problems.size() == 7);
    for (auto& p : problems) CHECK(p.sentence.find(".json.set-aside”") != std::string::npos);
    // Nothing is lost, and numbers go on where they were.
    CHECK(bytes_of(folder / "copy.json.set-aside") == text(good.dump()));
    CHECK(value(queue.add("in.webm", folder / "more.mp4", {})).id == 2);
}

TEST_CASE("A link on which nothing ever gets through is refused, and one that is slow ends", "[output]") {
    for (auto csv : {"0, 0", "0, 1e-9", "0, 1e-300\n5, 1e-300", "0, 0.00001"}) {
        INFO(csv);
        auto read = stream::network_trace_from_csv(text(csv), "x.csv");
        REQUIRE_FALSE(read);
        CHECK(read.error().sentence.find("Nothing ever gets through") != std::string::npos);
    }
    auto slow = value(stream::network_trace_from_csv(text("0, 0.001"), "x.csv"));
    CHECK(slow.done({}, 8000) == 8_s);
    CHECK(slow.done({}, 1e30) == Time::max());
}

TEST_CASE("A service closes what is finished and what is silent, and knows no names with a zero in them", "[output]") {
    Folder folder;
    put(folder / "a", text("hello"));
    stream::StaticServerOptions o;
    o.folder = folder.path, o.idle_s = 1;
    auto host = value(stream::StaticServer::start(std::move(o)));
    auto get = [&](const std::string& path) {
        return answer(connected(host->port()), "GET " + path + " HTTP/1.1\r\nHost: x\r\nConnection: close\r\n\r\n");
    };
    CHECK(get("/a").find("200 OK") != std::string::npos);
    CHECK(get("/a%00b").find("404") != std::string::npos);
    auto before = open_descriptors();
    for (int i = 0; i < 40; ++i) CHECK(get("/a").ends_with("hello"));
    // Without anyone else coming.
    CHECK(soon([&] { return open_descriptors() <= before + 2; }));
    // A request that is never finished.
    auto fd = connected(host->port());
    (void)!::write(fd, "GET /a", 6);
    char byte = 0;
    CHECK(::read(fd, &byte, 1) <= 0);
    ::close(fd);
}

TEST_CASE("Of several instances of an app the last to change a thing wins, thing by thing", "[output]") {
    Folder folder;
    auto file = folder / "remembered.json";
    Memory begun;
    begun["Player"].volume = 0.5;
    done(write_memory(begun, file));
    auto loud = begun, elsewhere = begun;
    loud["Player"].volume = 0.9;
    elsewhere["Player"].source = "B", elsewhere["Player"].at = 7_s;
    done(keep_memory(loud, begun, file));
    done(keep_memory(elsewhere, begun, file));
    auto kept = read_memory(file);
    CHECK(kept["Player"].volume == 0.9);
    CHECK(kept["Player"].source == "B");
    CHECK(kept["Player"].at == 7_s);
}

TEST_CASE("An endless tail of whatever fills a container ends in words, and long before anybody would", "[output]") {
    auto server = demo::LoopbackServer::start();
    auto block = [](std::initializer_list<std::uint8_t> head, std::size_t size) {
        Bytes one(head);
        one.resize(size);
        Bytes many;
        while (many.size() < 65536) many.insert(many.end(), one.begin(), one.end());
        return many;
    };
    struct Tail {
        const char* file;
        std::size_t keep;  ///< So much of the file comes first; 0 for all.
        Bytes filler;
    };
    const auto nothing = block({0}, 65536);
    for (auto& t : {Tail{"mjpeg_pcm.avi", 60000, nothing},
                    Tail{"h264_cbp_opus_frag.mp4", 0, block({0, 0, 4, 0, 'f', 'r', 'e', 'e'}, 1024)},
                    Tail{"h264_high_aac.mp4", 32, block({0, 0, 4, 0, 'f', 'r', 'e', 'e'}, 1024)},
                    Tail{"vp9_opus.webm", 0, block({0xEC, 0x43, 0xFD}, 1024)}, Tail{"theora_vorbis.ogv", 0, nothing},
                    Tail{"h264_aac.ts", 0, nothing}, Tail{"h264_aac.ts", 0, block({0x47, 0x1F, 0xFF, 0x10}, 188)},
                    Tail{"audio.flac", 0, nothing}, Tail{"audio_info.mp3", 0, nothing}}) {
        INFO(t.file);
        auto body = bytes_of(fixture(t.file));
        if (t.keep) body.resize(t.keep);
        // The server sends its body over and over: long enough that it stands for one that has no end.
        auto beginning = body.size();
        while (body.size() < beginning + (300U << 20)) body.insert(body.end(), t.filler.begin(), t.filler.end());
        server->serve("/x", {.body = std::move(body), .endless = true});
        auto clip = open_clip(server->address("/x"));
        if (clip) {
            auto& info = (*clip)->info();
            for (auto& track : info.tracks) {
                if (track.kind != Kind::video && track.kind != Kind::audio) continue;
                auto facts = scan_track(**clip, track);
                if (!facts) CHECK(facts.error().code == ErrorCode::limit);
            }
        } else {
            CHECK((clip.error().code == ErrorCode::limit || clip.error().code == ErrorCode::not_media ||
                   clip.error().code == ErrorCode::truncated || clip.error().code == ErrorCode::malformed));
        }
        clip = std::unexpected(Error{});
    }
}
