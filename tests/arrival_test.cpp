// SPDX-License-Identifier: Apache-2.0
// Clips that are still arriving, may never end, or don't arrive at all: what plays, what fails in words, and that
// whoever no longer waits is obeyed.
#include <sys/resource.h>
#include <sys/socket.h>
#include <netinet/in.h>

#include "container/mpegts/joins.h"
#include "demo/server.h"
#include "facts/facts.h"
#include "headless.h"
#include "io/http.h"
#include "support.h"
#include "timing.h"

using namespace ruedo;
using namespace ruedo::test;
using demo::LoopbackServer;
using demo::Served;

namespace {
/// A controller in real time, against the silent stand-in.
struct Live {
    std::shared_ptr<Strand> strand = make_real_strand();
    Mixer mixer{*strand, {}};
    std::unique_ptr<Controller> controller = std::make_unique<Controller>(
        Controller::Env{make_real_strand(), &mixer, &CodecRegistry::standard(), make_null_sink(16_ms)});
    bool until(const std::function<bool(const Snapshot&)>& wanted, Time limit = 30_s) {
        return controller->wait(wanted, limit);
    }
    std::size_t events(std::string_view name) const {
        auto all = controller->events();
        return static_cast<std::size_t>(std::count_if(all.begin(), all.end(), [&](auto& e) { return e.name == name; }));
    }
};
std::vector<PacketHead> heads_of(Clip& clip, const Track& track) {
    std::vector<PacketHead> all;
    auto reader = clip.reader(track.id);
    for (PacketHead head; value(reader->next(head));) all.push_back(head);
    return all;
}
/// A listener that answers every connection with the same bytes, whatever they are.
class RawServer {
  public:
    explicit RawServer(std::string answer)
        : answer_(std::move(answer)), listener_(::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0)) {
        sockaddr_in at{};
        at.sin_family = AF_INET;
        at.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
        socklen_t length = sizeof at;
        if (::bind(listener_, reinterpret_cast<sockaddr*>(&at), length) != 0 || ::listen(listener_, 16) != 0)
            std::abort();
        ::getsockname(listener_, reinterpret_cast<sockaddr*>(&at), &length);
        port_ = ntohs(at.sin_port);
        thread_ = std::thread([this] {
            for (;;) {
                int peer = ::accept(listener_, nullptr, nullptr);
                if (peer < 0) return;
                char request[4096];
                if (::recv(peer, request, sizeof request, 0) > 0)
                    (void)!::send(peer, answer_.data(), answer_.size(), MSG_NOSIGNAL);
                ::shutdown(peer, SHUT_WR);
                ::close(peer);
            }
        });
    }
    ~RawServer() {
        ::shutdown(listener_, SHUT_RDWR);
        thread_.join();
        ::close(listener_);
    }
    std::string address() const { return "http://127.0.0.1:" + std::to_string(port_) + "/clip.mp4"; }

  private:
    std::string answer_;
    int listener_;
    std::uint16_t port_ = 0;
    std::thread thread_;
};
}  // namespace

TEST_CASE("What states no length plays as it comes, though its end never does", "[network][buffer]") {
    auto server = LoopbackServer::start();
    for (auto name : {"audio_info.mp3", "audio_opus.ogg", "theora_vorbis.ogv", "live_unknown_sizes.webm",
                      "vp9_opus.webm", "h264_aac.ts", "audio.flac", "frag_no_sidx.mp4"}) {
        INFO(name);
        auto path = "/" + std::string(name);
        // All of it, and then the line stays open with nothing more on it.
        server->serve(
            path,
            {.file = fixture(name).string(), .silent_after = fs::file_size(fixture(name)), .states_no_length = true});
        Live live;
        live.controller->open(server->address(path), playing);
        REQUIRE(live.until([](auto& s) {
            return s.state.phase == Phase::failed || (s.state.phase == Phase::playing && s.position > 300_ms);
        }));
        auto s = live.controller->snapshot();
        REQUIRE(s.state.phase == Phase::playing);
        if (!s.duration_known) CHECK(s.live);
        CHECK(took([&] { live.controller.reset(); }) < 400_ms);
    }
}

TEST_CASE("What has no end has no laps either: repeating it changes nothing of how it plays", "[network][buffer]") {
    auto server = LoopbackServer::start();
    server->serve("/station.mp3", {.file = fixture("audio_vbr_no_info.mp3").string(), .endless = true});
    Live live;
    live.controller->open(server->address("/station.mp3"), playing);
    for (auto kind : {Loop::Kind::none, Loop::Kind::range, Loop::Kind::all, Loop::Kind::none}) {
        live.controller->set_loop({kind, 1_s, 2_s});
        Time from{};
        REQUIRE(live.until([&](auto& s) {
            if (s.state.phase != Phase::playing || s.loop.kind != kind) return false;
            if (from.ns == 0) from = s.position;
            return s.position > from + 250_ms && s.sounded_to > s.position;
        }));
    }
}

TEST_CASE("A station without an end is looked at in part, and memory stays within the window", "[network][buffer]") {
    auto server = LoopbackServer::start();
    for (auto name : {"audio_vbr_no_info.mp3", "h264_aac.ts", "live_unknown_sizes.webm"}) {
        INFO(name);
        auto path = "/" + std::string(name);
        server->serve(path, {.file = fixture(name).string(), .endless = true});
        auto source = value(open_source(server->address(path)));
        std::shared_ptr<Clip> clip = value(open_clip(source));
        CHECK(clip->info().live);
        CHECK_FALSE(clip->info().duration_known);
        auto facts = value(
            gather_facts(clip, CodecRegistry::standard(), {}, {.loudness = true, .cancel = nullptr, .so_far = {}}));
        CHECK(std::count_if(facts.findings.begin(), facts.findings.end(), [](auto& f) { return f.code == "no-end"; }) ==
              1);
        CHECK(std::dynamic_pointer_cast<HttpSource>(source)->received() < 64'000'000);
    }
    // What states its own length ends there, whatever follows without an end.
    for (auto name : {"audio.flac", "audio_info.mp3", "vp9_opus.webm", "h264_high_aac.mp4"}) {
        INFO(name);
        auto path = "/" + std::string(name);
        server->serve(path, {.file = fixture(name).string(), .endless = true});
        auto source = value(open_source(server->address(path)));
        std::shared_ptr<Clip> clip = value(open_clip(source));
        auto facts_of = [](std::shared_ptr<Clip> c) {
            return value(
                gather_facts(c, CodecRegistry::standard(), {}, {.loudness = false, .cancel = nullptr, .so_far = {}}));
        };
        CHECK(facts_of(clip).duration == facts_of(open(name)).duration);
        CHECK(source->received() < 64'000'000);
    }
    // What needs an end, or an index that never comes, fails in words when the time for opening is over.
    Bytes endless_mdat;
    ByteWriter w;
    w.u32(16).text("ftyp").text("isom").u32(0).u32(0).text("mdat");
    w.bytes.resize(1 << 20);
    server->serve("/endless.mp4", {.body = w.bytes, .endless = true});
    Live live;
    auto options = playing;
    options.open_within = 1500_ms;
    live.controller->open(server->address("/endless.mp4"), options);
    REQUIRE(live.until([](auto& s) { return s.state.phase == Phase::failed; }));
    auto error = *live.controller->snapshot().error;
    INFO(error.sentence);
    CHECK((error.code == ErrorCode::timeout || error.code == ErrorCode::truncated || error.code == ErrorCode::network));
    CHECK_FALSE(error.hint.empty());
    rusage usage{};
    getrusage(RUSAGE_SELF, &usage);
#if !defined(__SANITIZE_ADDRESS__) && !defined(__SANITIZE_THREAD__)
    CHECK(usage.ru_maxrss < 600 * 1024);
#endif
}

TEST_CASE("What has arrived plays, though the server knows no parts and the rest is on its way", "[network][buffer]") {
    auto server = LoopbackServer::start();
    for (auto name : {"vp9_opus.webm", "theora_vorbis.ogv", "h264_aac.ts", "frag_no_sidx.mp4", "h264_cbp_opus_frag.mp4",
                      "audio_info.mp3", "mjpeg_pcm.avi"}) {
        INFO(name);
        auto path = "/" + std::string(name);
        auto size = fs::file_size(fixture(name));
        server->serve(path, {.file = fixture(name).string(), .bytes_per_second = size / 4, .ignores_ranges = true});
        auto before = server->sent();
        Live live;
        live.controller->open(server->address(path), playing);
        REQUIRE(live.until([](auto& s) {
            return s.state.phase == Phase::failed || (s.state.phase == Phase::playing && s.position > 100_ms);
        }));
        auto sent = server->sent() - before;
        REQUIRE(live.controller->snapshot().state.phase == Phase::playing);
        CHECK(sent < size * 3 / 4);
    }
}

TEST_CASE("Joined transport streams play to their end over http as from disk", "[network][buffer][mpegts]") {
    Folder folder;
    auto joined = many(bytes_of(fixture("h264_aac.ts")), 3);
    put(folder / "joined.ts", joined);
    auto server = LoopbackServer::start();
    server->serve("/joined.ts", {.file = (folder / "joined.ts").string()});
    auto local = value(open_clip((folder / "joined.ts").string())),
         remote = value(open_clip(value(open_source(server->address("/joined.ts")))));
    CHECK(local->info().duration > 17_s);
    CHECK(remote->info().duration == local->info().duration);
    CHECK(remote->info().findings.size() == local->info().findings.size());
    // Where nothing tells the length, the places are met on the way.
    server->serve("/coming.ts", {.body = joined, .states_no_length = true});
    auto coming = value(open_clip(value(open_source(server->address("/coming.ts")))));
    CHECK_FALSE(coming->info().duration_known);
    for (auto& track : local->info().tracks) {
        auto all = heads_of(*local, track), come = heads_of(*coming, track);
        REQUIRE(come.size() == all.size());
        for (std::size_t i = 0; i < all.size(); ++i) CHECK(std::abs((come[i].pts - all[i].pts).ns) < (60_ms).ns);
    }
}

TEST_CASE("What begins anew without an end plays on, or ends where a second recording begins", "[network][buffer]") {
    auto server = LoopbackServer::start();
    struct {
        const char* name;
        Time length;
        std::uint64_t presented;
        const char* state;
    } const rows[] = {{"h264_aac.ts", 14_s, 420, "playing"},
                      {"frag_no_sidx.mp4", 20_s, 180, "ended"},
                      {"h264_cbp_opus_frag.mp4", 20_s, 180, "ended"},
                      {"mjpeg_pcm.avi", 20_s, 180, "ended"}};
    for (auto& row : rows) {
        INFO(row.name);
        auto path = "/" + std::string(row.name);
        server->serve(path, {.file = fixture(row.name).string(), .endless = true});
        HeadlessOptions o;
        o.source = server->address(path);
        o.virtual_time = true;
        o.length = row.length;
        auto report = play_headless(o).report;
        CHECK(report["state"] == row.state);
        CHECK(report["presented"] == row.presented);
        CHECK(report["dropped"] == 0);
        std::shared_ptr<Clip> clip = value(open_clip(value(open_source(o.source))));
        auto facts = value(
            gather_facts(clip, CodecRegistry::standard(), {}, {.loudness = false, .cancel = nullptr, .so_far = {}}));
        CHECK(facts.duration < 12_s);
    }
}

TEST_CASE("Parts whose times start over lie end to end, whichever stream comes to them first", "[network][buffer]") {
    std::mt19937 random(11);
    for (int round = 0; round < 40; ++round) {
        mpegts::Joins joins;
        struct SentencePage {
            std::uint64_t offset;
            std::int64_t ticks;
        };
        // Two streams of some parts: each part counts from a start of its own, by steps of a fiftieth of a second.
        std::vector<SentencePage> streams[2];
        std::uint64_t offset = 0;
        auto parts = 1 + random() % 6;
        std::int64_t begin = 0;
        for (unsigned part = 0; part < parts; ++part) {
            auto count = 100 + random() % 200;
            for (unsigned i = 0; i < count; ++i)
                for (auto& s : streams) s.push_back({++offset, begin + i * 1800});
            auto away = 200'000 + static_cast<std::int64_t>(random() % 9'000'000);
            begin += random() % 2 ? -away : away + 2'000'000;
        }
        std::size_t at[2] = {};
        while (at[0] < streams[0].size() || at[1] < streams[1].size()) {
            auto which = random() % 2;
            for (auto n = random() % 300; n > 0 && at[which] < streams[which].size(); --n, ++at[which])
                joins.see(static_cast<unsigned>(which), streams[which][at[which]].offset,
                          streams[which][at[which]].ticks);
        }
        CHECK(joins.count() == parts - 1);
        for (unsigned which = 0; which < 2; ++which)
            for (std::size_t i = 1; i < streams[which].size(); ++i) {
                auto time = [&](auto& t) { return t.ticks + joins.shift(which, t.offset); };
                auto step = time(streams[which][i]) - time(streams[which][i - 1]);
                CHECK((step == 1800 || step == 3003));
            }
        // A stamp astray moves nothing but itself, for its own stream and for the other.
        auto end = streams[0].back().ticks;
        joins.see(0, offset + 10, end + 50'000'000);
        joins.see(0, offset + 20, end + 1800), joins.see(1, offset + 21, end + 1800);
        CHECK(joins.count() == parts - 1);
        CHECK(joins.shift(0, offset + 20) == joins.shift(0, offset));
        CHECK(joins.shift(1, offset + 21) == joins.shift(1, offset));
        // What was passed over on purpose is a gap in the times too, but no other part.
        joins.jump(0, offset + 1000);
        joins.see(0, offset + 1000, begin + 100'000'000);
        joins.see(1, offset + 1001, end + 3600);
        CHECK(joins.count() == parts - 1);
    }
}

TEST_CASE("Pictures of what can't be sought are those of the times asked for, whatever their order",
          "[network][buffer][seek]") {
    auto server = LoopbackServer::start();
    std::vector<Time> times{5500_ms, 200_ms, 3_s, 3_s, 0_s, 1999_ms, 5999_ms};
    using PresentedFrame = std::vector<std::pair<Time, std::optional<int>>>;
    auto shown_in = [&](std::shared_ptr<Clip> clip) {
        auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
        PresentedFrame shown(times.size());
        done(reader->at_each(times, [&](std::size_t i, const Frame& picture) -> Status {
            shown[i] = {picture.pts, demo::read_strip(render(picture))};
            return {};
        }));
        return shown;
    };
    for (auto name :
         {"h264_aac.ts", "frag_no_sidx.mp4", "live_unknown_sizes.webm", "theora_vorbis.ogv", "vp9_opus.webm"}) {
        INFO(name);
        auto path = "/" + std::string(name);
        server->serve(path, {.file = fixture(name).string(), .states_no_length = true});
        CHECK(shown_in(value(open_clip(value(open_source(server->address(path)))))) == shown_in(open(name)));
    }
    // Those that never come are the last one that did.
    times.push_back(3600_s);
    auto coming = shown_in(value(open_clip(value(open_source(server->address("/h264_aac.ts"))))));
    CHECK(coming.back() == coming[6]);
    auto seen = 0;
    auto clip = open("vp9_opus.webm");
    auto reader = value(FrameReader::open(clip, *clip->info().main(Kind::video), CodecRegistry::standard()));
    auto ended = reader->at_each(times, [&](std::size_t, const Frame&) -> Status {
        if (++seen == 3) return fail(ErrorCode::cancelled, "Enough.");
        return {};
    });
    CHECK((!ended && ended.error().sentence == "Enough." && seen == 3));
}

TEST_CASE("After it starved it waits until it can go through", "[network][buffer]") {
    auto server = LoopbackServer::start();
    auto file = fixture("h264_high_aac.mp4");
    // Six seconds that take six and a half to come: going on at once would starve at every step.
    server->serve("/clip.mp4",
                  {.file = file.string(),
                   .bytes_per_second = static_cast<std::uint64_t>(static_cast<double>(fs::file_size(file)) / 6.6)});
    Live live;
    live.controller->open(server->address("/clip.mp4"), playing);
    REQUIRE(live.until([](auto& s) { return s.state.phase == Phase::ended || s.state.phase == Phase::failed; }, 60_s));
    CHECK(live.controller->snapshot().state.phase == Phase::ended);
    INFO("starved " << live.events("starved") << " times");
    CHECK(live.events("starved") <= 3);
}

TEST_CASE("Opening has one deadline, whatever the server does with its time, and says what took it",
          "[network][buffer]") {
    auto server = LoopbackServer::start();
    auto clip = bytes_of(fixture("vp9_opus.webm"));
    server->serve("/mute", {.never_answers = true});
    server->serve("/drip", {.body = clip, .drip_ms = 300});
    server->serve("/silent", {.body = clip, .silent_after = 400, .ignores_ranges = true});
    for (auto path : {"/mute", "/drip", "/silent"}) {
        INFO(path);
        Live live;
        auto options = playing;
        options.open_within = 1200_ms;
        auto begun = monotonic_now();
        auto time = took([&] {
            live.controller->open(server->address(path), options);
            REQUIRE(live.until([](auto& s) { return s.state.phase == Phase::failed; }));
        });
        auto error = *live.controller->snapshot().error;
        CHECK(error.code == ErrorCode::timeout);
        CHECK(error.sentence.find("127.0.0.1") != std::string::npos);
        CHECK(monotonic_now() - begun > 1_s);  // not before its time, by the clock that it goes by
        CHECK(time < 2_s);
    }
    // Without such a deadline a read ends too: a byte now and then is not progress.
    HttpOptions quick;
    quick.patience = 700_ms, quick.stall = 500_ms, quick.first_byte = 500_ms;
    auto source = http_source(server->address("/drip"), quick);
    Bytes some(2000);
    auto time = took([&] { CHECK_FALSE(source->read_at(0, some).has_value()); });
    CHECK(time < 2_s);
}

TEST_CASE("Whoever stops waiting is obeyed at once, in files without end and captions of gigabytes too",
          "[network][buffer][captions]") {
    Folder folder;
    // Twenty gigabytes that take no room: a stream behind which nothing comes for a very long while.
    auto huge = folder / "huge.ts";
    fs::copy_file(fixture("h264_aac.ts"), huge);
    fs::resize_file(huge, 20ULL << 30);
    auto srt = folder / "huge.en.srt";
    put(srt, Bytes{'1', '\n'});
    fs::resize_file(srt, 20ULL << 30);
    Time worst{};
    for (int i = 0; i < 12; ++i) {
        Live live;
        auto options = playing;
        options.text_language = "en";
        options.captions = {srt.string()};
        live.controller->open(i % 2 ? huge.string() : fixture("text_webvtt.mkv").string(), options);
        if (i % 3)
            live.until([](auto& s) { return s.state.phase != Phase::opening && s.state.phase != Phase::empty; },
                       100_ms);
        worst = std::max(worst, took([&] { live.controller.reset(); }));
    }
#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
    CHECK(worst < 2_s);
#else
    CHECK(worst < 200_ms);
#endif
    // The same for a walk through all of it, by a flag and by a deadline.
    std::atomic<bool> flag = false;
    std::thread later([&] {
        std::this_thread::sleep_for(std::chrono::milliseconds(50));
        flag = true;
    });
    auto walk = [&] {
        auto clip = open_clip(huge.string());
        if (!clip) return clip.error().code;
        auto scanned = scan_track(**clip, (*clip)->info().tracks.front());
        return scanned ? ErrorCode::internal : scanned.error().code;
    };
    ErrorCode code{};
    CHECK(took([&] {
              ReadScope scope(&flag);
              code = walk();
          }) < 400_ms);
    CHECK(code == ErrorCode::cancelled);
    later.join();
    CHECK(took([&] {
              ReadScope scope(nullptr, false, monotonic_now() + 100_ms);
              code = walk();
          }) < 500_ms);
    CHECK(code == ErrorCode::timeout);
}

TEST_CASE("Giving one thing up leaves the others alone: captions come though a seek is made meanwhile",
          "[network][buffer][seek][captions]") {
    auto server = LoopbackServer::start();
    std::string srt = "1\n00:00:00,500 --> 00:00:05,500\nThe lamp turns.\n";
    server->serve("/slow.en.srt", {.body = Bytes(srt.begin(), srt.end()), .drip_ms = 8});
    Live live;
    auto options = playing;
    options.text_language = "en";
    options.captions = {server->address("/slow.en.srt")};
    live.controller->open(fixture("vp9_opus.webm").string(), options);
    REQUIRE(live.until([](auto& s) { return s.state.phase == Phase::playing; }));
    for (int i = 0; i < 5; ++i) live.controller->seek(1_s * (i % 3)), (void)live.controller->snapshot_after_calls();
    CHECK(live.until([](auto& s) { return s.cues && s.cues->list.size() == 1; }));
}

TEST_CASE("What is not http is called that, and not a redirect, and what is asked too much is asked again",
          "[network][buffer]") {
    for (auto answer :
         {"this is no answer at all\r\n\r\n", "SSH-2.0-harbour\r\n", "HTTP/9.9 banana\r\n\r\n", "\x16\x03\x01\x02"}) {
        RawServer raw(answer);
        HttpOptions quick;
        quick.retries = 0, quick.patience = 3_s;
        auto source = http_source(raw.address(), quick);
        Bytes some(100);
        auto got = source->read_at(0, some);
        INFO(answer);
        REQUIRE_FALSE(got.has_value());
        CHECK(got.error().sentence.find("redirect") == std::string::npos);
        CHECK(got.error().code == ErrorCode::network);
    }
    auto server = LoopbackServer::start();
    auto clip = bytes_of(fixture("audio_opus.ogg"));
    server->serve("/busy", {.body = clip, .busy_for = 2});
    auto source = http_source(server->address("/busy"));
    Bytes some(1000);
    CHECK(value(source->read_at(0, some)) == 1000);
    // A body that breaks off again and again, of which no part can be had, is not called too large.
    server->serve("/cut", {.body = Bytes(109'000, 7), .cut_after = 60'000, .ignores_ranges = true});
    HttpOptions quick;
    quick.retries = 6;
    auto cut = http_source(server->address("/cut"), quick);
    auto late = cut->read_at(100'000, some);
    REQUIRE_FALSE(late.has_value());
    INFO(late.error().sentence);
    CHECK(late.error().sentence.find("too large") == std::string::npos);
    // Of a body in chunks the length is what came.
    server->serve("/chunks", {.body = clip, .states_no_length = true});
    auto chunks = http_source(server->address("/chunks"));
    Bytes all(clip.size() + 100);
    CHECK(value(chunks->read_at(0, all)) == clip.size());
    CHECK(chunks->size() == clip.size());
}
