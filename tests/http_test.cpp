// SPDX-License-Identifier: Apache-2.0
// Reading over http from a server that does everything servers do, and some things they should not.
#include <sys/wait.h>

#include <thread>

#include "demo/server.h"
#include "io/client.h"
#include "io/ranges.h"
#include "io/transfer.h"
#include "support.h"
#include "timing.h"

using namespace ruedo;
using namespace ruedo::test;
using demo::LoopbackServer;
using demo::Served;

namespace {
HttpOptions quick() {
    HttpOptions o;
    o.connect = 1_s, o.first_byte = 400_ms, o.stall = 400_ms, o.retries = 2;
    return o;
}
Bytes pattern(std::size_t n) {
    Bytes b(n);
    for (std::size_t i = 0; i < n; ++i) b[i] = static_cast<std::uint8_t>(i * 2654435761U >> 13);
    return b;
}
Result<Bytes> get(HttpSource& s, std::uint64_t at, std::size_t n) {
    Bytes b(n);
    RUEDO_TRY(auto got, s.read_at(at, b));
    b.resize(got);
    return b;
}
Bytes slice(const Bytes& b, std::size_t at, std::size_t n) {
    at = std::min(at, b.size());
    return {b.begin() + static_cast<std::ptrdiff_t>(at),
            b.begin() + static_cast<std::ptrdiff_t>(std::min(b.size(), at + n))};
}
/// Every way a server can be wrong: how it is served, and the codes that are right answers.
struct Wrong {
    const char* name;
    Served served;
    std::vector<ErrorCode> codes;
};
}  // namespace

TEST_CASE("Any part of a file is read as it is, whatever the server can do", "[network]") {
    auto body = pattern(3'000'000);
    auto server = LoopbackServer::start();
    REQUIRE(server);
    Served parts{.body = body}, whole{.body = body, .ignores_ranges = true},
        unknown{.body = body, .states_no_length = true}, cut{.body = body, .cut_after = 200'000},
        slow{.body = body, .bytes_per_second = 20'000'000};
    for (auto& [name, served] : std::vector<std::pair<std::string, Served>>{
             {"parts", parts}, {"whole", whole}, {"unknown", unknown}, {"cut", cut}, {"slow", slow}}) {
        server->serve("/" + name, served);
        server->serve("/elsewhere/" + name, {.redirect = server->address("/" + name)});
        for (auto path : {"/" + name, "/elsewhere/" + name}) {
            auto source = http_source(server->address(path), quick());
            std::mt19937 random(3);
            for (int i = 0; i < 40; ++i) {
                auto at = random() % 3'100'000;
                auto n = 1 + random() % (i % 4 == 0 ? 300'000 : 3000);
                INFO(path << " " << i << ": " << n << " bytes at " << at);
                CHECK(value(get(*source, at, n)) == slice(body, at, n));
            }
            CHECK(source->size() == body.size());
            CHECK(source->name() == name);
        }
    }
}

TEST_CASE("A window of bounded size holds what was read last", "[network]") {
    auto body = pattern(8'000'000);
    auto server = LoopbackServer::start();
    server->serve("/x", {.body = body});
    auto options = quick();
    options.window = 1 << 20, options.ahead = 256 << 10;
    auto source = http_source(server->address("/x"), options);
    auto held = [&] {
        std::uint64_t sum = 0;
        auto ranges = source->buffered().value();
        for (auto& r : ranges) sum += r.to - r.from;
        return sum;
    };
    for (std::size_t at = 0; at < body.size(); at += 100'000) {
        CHECK(value(get(*source, at, 100'000)) == slice(body, at, 100'000));
        CHECK(held() <= options.window + 65536);
    }
    // Jumps fetch what they need and what lies ahead within bounds, not the way there.
    auto other = http_source(server->address("/x"), options);
    value(get(*other, 0, 1000));
    value(get(*other, 7'000'000, 1000));
    value(get(*other, 3'000'000, 1000));
    CHECK(other->received() < 2'500'000);
    CHECK(value(get(*other, 7'000'000, 1000)) == slice(body, 7'000'000, 1000));
}

TEST_CASE("Who only looks at what is here has nothing fetched, and keeps nothing from being dropped", "[network]") {
    auto body = pattern(24'000'000);
    auto server = LoopbackServer::start();
    server->serve("/parts", {.body = body});
    server->serve("/whole", {.body = body, .ignores_ranges = true});
    for (auto path : {"/parts", "/whole"}) {
        INFO(path);
        auto options = quick();
        options.window = 8 << 20, options.ahead = 1 << 20;
        auto source = http_source(server->address(path), options);
        CHECK(value(get(*source, 0, 1000)) == slice(body, 0, 1000));
        // To the end of what is here, again and again, as who tells how far a clip has come.
        std::uint64_t seen = 0;
        for (int i = 0; i < 60; ++i) {
            ReadScope only(nullptr, true);
            while (seen < body.size() && get(*source, seen, 50'000)) seen += 50'000;
            std::this_thread::sleep_for(std::chrono::milliseconds(5));
        }
        CHECK(seen < 3'000'000);
        CHECK(source->received() < 3'000'000);
        CHECK(value(get(*source, 1000, 900'000)) == slice(body, 1000, 900'000));
        CHECK(source->requests() < 4);
    }
}

TEST_CASE("Whatever a server does, a read ends in bytes or in a sentence, in time", "[network]") {
    auto body = pattern(400'000);
    auto server = LoopbackServer::start();
    std::vector<Wrong> all{{"missing", {.status = 404}, {ErrorCode::not_found}},
                           {"gone", {.status = 410}, {ErrorCode::not_found}},
                           {"forbidden", {.status = 403}, {ErrorCode::refused}},
                           {"fault", {.status = 503}, {ErrorCode::network}},
                           {"circle", {.redirect = "/circle"}, {ErrorCode::network}},
                           {"elsewhere", {.redirect = "ftp://127.0.0.1/x"}, {ErrorCode::refused}},
                           {"compressed", {.body = body, .compressed = true}, {ErrorCode::network}},
                           {"mute", {.never_answers = true}, {ErrorCode::timeout}},
                           {"stops",
                            {.body = body, .silent_after = 1000, .ignores_ranges = true},
                            {ErrorCode::timeout, ErrorCode::network}},
                           {"more", {.body = body, .claims_more = 100'000}, {ErrorCode::network}},
                           {"other part", {.body = body, .wrong_part = true}, {ErrorCode::network}},
                           {"nowhere", {.redirect = "http://127.0.0.1:1/x"}, {ErrorCode::network}}};
    for (auto& w : all) {
        auto path = "/" + std::string(w.name == std::string("other part") ? "part" : w.name);
        server->serve(path, w.served);
        auto source = http_source(server->address(path), quick());
        BareTimer timer;
        // The end first: a wrong part shows only there.
        auto got = get(*source, 399'000, 2000);
        if (got) got = get(*source, 499'990, 5);
        INFO(w.name);
        REQUIRE_FALSE(got.has_value());
        CHECK(std::count(w.codes.begin(), w.codes.end(), got.error().code) == 1);
        CHECK_FALSE(got.error().sentence.empty());
        CHECK_FALSE(got.error().hint.empty());
        CHECK(timer.ran() < 6_s);
    }
    HttpClient client(quick());
    auto other = client.get(server->address("/part"), ByteSource::Range{1000, 2000});
    REQUIRE_FALSE(other.has_value());
    CHECK(
        (other.error().code == ErrorCode::network && other.error().sentence.find("another part") != std::string::npos));
    CHECK(value(client.get(server->address("/part"), ByteSource::Range{0, 2000})).body == slice(body, 0, 2000));
    auto nobody = http_source("http://127.0.0.1:1/x.mp4", quick());
    CHECK(get(*nobody, 0, 10).error().code == ErrorCode::network);
    auto nameless = http_source("http:///x.mp4", quick());
    CHECK_FALSE(get(*nameless, 0, 10).has_value());
}

TEST_CASE("What a server says of a part is read as far as it is said", "[network]") {
    auto is = [](std::string_view text, std::optional<std::uint64_t> from, std::optional<std::uint64_t> of) {
        INFO(text);
        auto part = transfer::part_sent(text);
        CHECK((part.from == from && part.of == of));
    };
    is("bytes 0-9/1000", 0, 1000), is("bytes 18446744073709551615-1/2", UINT64_MAX, 2);
    is("bytes 5-9/*", 5, std::nullopt), is("bytes */77", std::nullopt, 77), is("bytes 7", std::nullopt, std::nullopt);
    for (auto none : {"", "/", "bytes", "bytes ", "lines 1-2/", "bytes -1-2/3x", "bytes 18446744073709551616-1/-1"})
        is(none, std::nullopt, std::nullopt);
}

TEST_CASE("A file that changes on the server is said to have changed", "[network]") {
    auto server = LoopbackServer::start();
    server->serve("/x", {.body = pattern(4'000'000), .etag_changes_after = 1});
    auto options = quick();
    options.ahead = 64 << 10;
    auto source = http_source(server->address("/x"), options);
    value(get(*source, 0, 1000));
    auto late = get(*source, 3'000'000, 1000);
    REQUIRE_FALSE(late.has_value());
    CHECK(late.error().sentence.find("changed") != std::string::npos);
}

TEST_CASE("Waiting for the network is given up within a tenth of a second", "[network]") {
    auto server = LoopbackServer::start();
    server->serve("/mute", {.never_answers = true});
    for (int how : {0, 1}) {
        auto source = http_source(server->address("/mute"));
        std::atomic<bool> flag = false;
        std::optional<Error> error;
        std::thread reader([&] {
            ReadScope scope(&flag);
            error = get(*source, 0, 10).error();
        });
        std::this_thread::sleep_for(std::chrono::milliseconds(150));
        auto time = took([&] {
            if (how == 0)
                source->cancel();
            else
                flag = true;
            reader.join();
        });
        CHECK(time < 100_ms);
        CHECK(error->code == ErrorCode::cancelled);
        CHECK(took([&] { source.reset(); }) < 200_ms);
    }
}

TEST_CASE("A certificate that nobody vouches for is refused", "[network]") {
    Folder folder;
    auto command = "openssl req -x509 -newkey rsa:2048 -nodes -days 2 -subj /CN=harbour.test -keyout " +
                   (folder / "key.pem").string() + " -out " + (folder / "cert.pem").string() + " 2>/dev/null";
    REQUIRE(std::system(command.c_str()) == 0);
    auto text = [&](const std::string& name) {
        auto b = bytes_of(folder / name);
        return std::string(b.begin(), b.end());
    };
    auto server = LoopbackServer::start(0, text("key.pem"), text("cert.pem"));
    REQUIRE(server);
    server->serve("/x.mp4", {.body = pattern(1000)});
    auto source = http_source(server->address("/x.mp4"), quick());
    auto got = get(*source, 0, 10);
    REQUIRE_FALSE(got.has_value());
    CHECK(got.error().code == ErrorCode::refused);
    CHECK(got.error().sentence.find("certificate") != std::string::npos);
}

TEST_CASE("Every fixture opens over http as it does from disk", "[network]") {
    auto server = LoopbackServer::start();
    for (auto& name : playable()) {
        INFO(name);
        server->serve("/" + name, {.file = fixture(name).string()});
        auto clip = value(open_clip(value(open_source(server->address("/" + name)))));
        auto local = open(name);
        CHECK(clip->info().container == local->info().container);
        CHECK(clip->info().tracks.size() == local->info().tracks.size());
        if (local->info().duration_known && clip->info().duration_known && !name.ends_with(".mp3"))
            CHECK(clip->info().duration == local->info().duration);
        CHECK(clip->info().name == name);
    }
}

TEST_CASE("A clip plays while it arrives, and tells how far it is here", "[network]") {
    auto server = LoopbackServer::start();
    auto file = fixture("h264_high_aac.mp4");
    // 182 kB for six seconds; at this speed it arrives in about three.
    server->serve("/clip.mp4", {.file = file.string(), .bytes_per_second = 60'000});
    std::shared_ptr<Strand> strand = make_real_strand();
    Mixer mixer(*strand, [&] { return make_silent_device(*strand, 0); });
    auto sink = make_null_sink(16_ms);
    Controller controller({strand, &mixer, &CodecRegistry::standard(), sink});
    controller.open(server->address("/clip.mp4"), {.start = {Start::How::play, {}}, .loop = {}});
    // How far it is here is looked at now and then, so on a slow machine what plays may be past the last look.
    Snapshot early;
    REQUIRE(controller.wait(
        [&](auto& s) {
            early = s;
            return s.state.phase == Phase::playing && s.position > 300_ms && s.buffered_to > s.position;
        },
        30_s));
    CHECK(early.buffered_to < 6_s);
    CHECK(server->sent() < 182'000);
    REQUIRE(controller.wait([](auto& s) { return s.buffered_to >= 6_s; }, 30_s));
    // Within what is said to be here, a seek needs nothing from the server.
    auto asked = server->requests();
    controller.seek(5_s);
    REQUIRE(controller.wait([](auto& s) { return s.position >= 5_s && s.state.phase == Phase::playing; }, 20_s));
    CHECK(server->requests() == asked);
    controller.release();
}

TEST_CASE("A controller on a bad server fails with words, and lets go at once", "[network]") {
    auto server = LoopbackServer::start();
    server->serve("/mute.mp4", {.never_answers = true});
    server->serve("/gone.mp4", {.status = 410});
    std::shared_ptr<Strand> strand = make_real_strand();
    Mixer mixer(*strand, [&] { return make_silent_device(*strand, 0); });
    {
        Controller controller({strand, &mixer, &CodecRegistry::standard(), make_null_sink(16_ms)});
        controller.open(server->address("/gone.mp4"), {});
        REQUIRE(controller.wait([](auto& s) { return s.state.phase == Phase::failed; }, 5_s));
        CHECK(controller.snapshot().error->code == ErrorCode::not_found);
        controller.open(server->address("/mute.mp4"), {});
        std::this_thread::sleep_for(std::chrono::milliseconds(200));
        auto time = took([&] {
            controller.release();
            REQUIRE(controller.wait([](auto& s) { return s.state.phase == Phase::closed; }, 10_s));
        });
        CHECK(time < 200_ms);
    }
}

TEST_CASE("A part that is asked for is what the words mean, and never more than there is", "[network]") {
    std::mt19937 random(3);
    for (int round = 0; round < 3000; ++round) {
        std::uint64_t size = random() % 4 ? random() % 40 : 0, a = random() % 50, b = random() % 50;
        std::uint64_t from = 0, to = size;
        bool part = false;
        auto asked = [&](const std::string& text) {
            from = 0, to = size, part = false;
            auto there = asked_range(text, size, from, to, part);
            INFO(text << " of " << size);
            CHECK((from <= to && to <= size));
            CHECK((part || (from == 0 && to == size)));
            return there;
        };
        auto a_to = "bytes=" + std::to_string(a) + "-", last = std::to_string(b);
        CHECK(asked(a_to) == (a < size));
        if (a < size) CHECK((part && from == a && to == size));
        // An end before the beginning makes it no range at all, and then everything is meant.
        bool good = a <= b;
        CHECK(asked(a_to + last) == (!good || a < size));
        if (good && a < size) CHECK((part && from == a && to == std::min(size, b + 1)));
        CHECK(part == (good && a < size));
        CHECK(asked("bytes=-" + last) == (b > 0 && size > 0));
        if (b > 0 && size > 0) CHECK((part && to - from == std::min(b, size) && to == size));
        for (auto* odd : {"", "bytes", "bytes=", "bytes=-", "bytes=a-", "bytes=1-x", "bytes=1-2,4-5", "items=0-1",
                          "bytes=-1-2", "bytes= 1-2", "bytes=99999999999999999999-"}) {
            CHECK(asked(odd));
            CHECK_FALSE(part);
        }
    }
    std::uint64_t from = 0, to = 9;
    bool part = false;
    CHECK(asked_range("bytes=3-18446744073709551615", 9, from, to, part));
    CHECK((part && from == 3 && to == 9));
}
