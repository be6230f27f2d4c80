// SPDX-License-Identifier: Apache-2.0
// Movie fragments as recorders and packagers write them: lengths that headers do not state, indexes of every kind,
// hours of fragments over a network.
#include "demo/server.h"
#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
std::uint32_t be(const Bytes& b, std::size_t at) { return be32(b.data() + at); }
void set_be(Bytes& b, std::size_t at, std::uint64_t v, int size) {
    for (int i = 0; i < size; ++i)
        b[at + static_cast<std::size_t>(i)] = static_cast<std::uint8_t>(v >> 8 * (size - 1 - i));
}
std::size_t find(const Bytes& b, const char* tag, std::size_t from = 0) {
    auto it = std::search(b.begin() + static_cast<std::ptrdiff_t>(from), b.end(), tag, tag + 4);
    return it == b.end() ? std::string::npos : static_cast<std::size_t>(it - b.begin());
}
/// Top-level boxes: offset and size.
std::vector<std::pair<std::size_t, std::size_t>> boxes(const Bytes& b) {
    std::vector<std::pair<std::size_t, std::size_t>> list;
    for (std::size_t at = 0; at + 8 <= b.size(); at += be(b, at)) list.emplace_back(at, be(b, at));
    return list;
}

enum class Index { none, sidx, nested, mfra };
/// A clip of `count` fragments of one picture track, each the first fragment of a fixture with its number and time set.
struct Long {
    Bytes bytes;
    Time each{};       ///< Length of one fragment.
    int pictures = 0;  ///< In a fragment.
};
Long long_clip(int count, Index index, bool timed = true) {
    auto source = bytes_of(fixture("frag_no_sidx.mp4"));
    Bytes head, part;
    for (auto [at, size] : boxes(source)) {
        auto box = Bytes(source.begin() + static_cast<std::ptrdiff_t>(at),
                         source.begin() + static_cast<std::ptrdiff_t>(at + size));
        auto type = be(source, at + 4);
        if (type == fourcc("ftyp") || type == fourcc("moov")) head.insert(head.end(), box.begin(), box.end());
        if (type == fourcc("moof") && !part.empty()) break;
        if (type == fourcc("moof") || (type == fourcc("mdat") && !part.empty()))
            part.insert(part.end(), box.begin(), box.end());
    }
    auto clip = std::shared_ptr<Clip>(value(open_clip(memory_source(
        [&] {
            auto all = head;
            all.insert(all.end(), part.begin(), part.end());
            return all;
        }(),
        "one.mp4"))));
    auto& video = *clip->info().main(Kind::video);
    Long made;
    auto facts = value(scan_track(*clip, video));
    made.pictures = static_cast<int>(facts.frame_count);
    made.each = facts.end - facts.start;
    // The track's own ticks: fixtures of this maker count 15360 a second.
    auto mdhd = find(head, "mdhd");
    auto timescale = be(head, mdhd + 4 + 12);
    auto length = time_to_ticks(made.each, timescale);
    std::vector<std::uint64_t> places;
    Bytes body;
    for (int i = 0; i < count; ++i) {
        auto one = part;
        set_be(one, find(one, "mfhd") + 8, static_cast<std::uint64_t>(i) + 1, 4);
        std::size_t at = 0;
        for (int track = 0; (at = find(one, "tfdt", at)) != std::string::npos && at < be(one, 0); ++track, at += 4) {
            bool wide = one[at + 4] == 1;
            // Sound keeps 48 kHz ticks; its fragments are as long as those of the pictures.
            auto before = wide ? be(one, at + 12) : be(one, at + 8);
            auto rate = track == 0 ? timescale : 48000U;
            auto time = before + static_cast<std::uint64_t>(i) *
                                     (track == 0 ? static_cast<std::uint64_t>(length) : length * rate / timescale);
            set_be(one, at + (wide ? 8 : 8), time, wide ? 8 : 4);
            if (!timed) std::memcpy(one.data() + at, "free", 4);
        }
        // Nested: an index of its own before every ten.
        if (index == Index::nested && i % 10 == 0) {
            auto n = static_cast<std::uint32_t>(std::min(10, count - i));
            ByteWriter inner;
            inner.u32(32 + 12 * n).text("sidx").u32(0).u32(1).u32(timescale);
            inner.u32(static_cast<std::uint32_t>(i * length)).u32(0).u16(0).u16(n);
            for (std::uint32_t k = 0; k < n; ++k)
                inner.u32(static_cast<std::uint32_t>(part.size()))
                    .u32(static_cast<std::uint32_t>(length))
                    .u32(0x90000000);
            body.insert(body.end(), inner.bytes.begin(), inner.bytes.end());
        }
        places.push_back(body.size());
        body.insert(body.end(), one.begin(), one.end());
    }
    ByteWriter sidx, mfra;
    if (index == Index::sidx) {
        sidx.u32(32 + 12 * static_cast<std::uint32_t>(count)).text("sidx").u32(0).u32(1).u32(timescale).u32(0).u32(0);
        sidx.u16(0).u16(static_cast<unsigned>(count));
        for (int i = 0; i < count; ++i)
            sidx.u32(static_cast<std::uint32_t>(part.size())).u32(static_cast<std::uint32_t>(length)).u32(0x90000000);
    }
    if (index == Index::nested) {
        auto groups = static_cast<std::uint32_t>((count + 9) / 10);
        sidx.u32(32 + 12 * groups).text("sidx").u32(0).u32(1).u32(timescale).u32(0).u32(0).u16(0).u16(groups);
        for (int i = 0; i < count; i += 10) {
            auto n = static_cast<std::uint32_t>(std::min(10, count - i));
            sidx.u32(0x80000000 | (32 + 12 * n + n * static_cast<std::uint32_t>(part.size())));
            sidx.u32(n * static_cast<std::uint32_t>(length)).u32(0);
        }
    }
    made.bytes = head;
    made.bytes.insert(made.bytes.end(), sidx.bytes.begin(), sidx.bytes.end());
    auto from = made.bytes.size();
    made.bytes.insert(made.bytes.end(), body.begin(), body.end());
    if (index == Index::mfra) {
        auto id = be(head, find(head, "tkhd") + 4 + 12);
        auto tfra = 24 + 11 * static_cast<std::uint32_t>(count), all = 8 + tfra + 16;
        mfra.u32(all).text("mfra").u32(tfra).text("tfra").u32(0).u32(id).u32(0).u32(static_cast<std::uint32_t>(count));
        for (int i = 0; i < count; ++i)
            mfra.u32(static_cast<std::uint32_t>(i * length))
                .u32(static_cast<std::uint32_t>(from + places[static_cast<std::size_t>(i)]))
                .u8(1)
                .u8(1)
                .u8(1);
        mfra.u32(16).text("mfro").u32(0).u32(all);
        made.bytes.insert(made.bytes.end(), mfra.bytes.begin(), mfra.bytes.end());
    }
    return made;
}
}  // namespace

TEST_CASE("A fragmented clip is as long as its fragments, whatever its headers say", "[isobmff]") {
    for (auto index : {Index::none, Index::sidx, Index::nested, Index::mfra})
        for (int count : {1, 2, 7}) {
            auto made = long_clip(count, index);
            for (bool lies : {false, true}) {
                INFO("index " << static_cast<int>(index) << ", " << count << " fragments, lies " << lies);
                auto bytes = made.bytes;
                // Headers as recorders leave them: the length of the first moment.
                auto mvhd = find(bytes, "mvhd");
                set_be(bytes, mvhd + 4 + 16, lies ? 121 : 0, 4);
                auto clip = value(open_clip(memory_source(bytes, "long.mp4")));
                auto& video = *clip->info().main(Kind::video);
                auto facts = value(scan_track(*clip, video));
                CHECK(facts.frame_count == static_cast<std::uint64_t>(made.pictures * count));
                CHECK(facts.end == made.each * count);
                auto end = facts.end;
                if (auto* audio = clip->info().main(Kind::audio))
                    end = std::max(end, value(scan_track(*clip, *audio)).end);
                CHECK(std::abs(
                          (clip->info().duration - (index == Index::sidx || index == Index::nested ? facts.end : end))
                              .ns) < (2_ms).ns);
            }
        }
}

TEST_CASE("Seeking in fragments gives the keyframe that a walk would, with an index, without one, without times",
          "[isobmff][seek]") {
    for (auto index : {Index::none, Index::sidx, Index::nested, Index::mfra})
        for (bool timed : {true, false}) {
            auto made = long_clip(40, index, timed);
            INFO("index " << static_cast<int>(index) << ", timed " << timed);
            auto clip = value(open_clip(memory_source(made.bytes, "long.mp4")));
            auto& video = *clip->info().main(Kind::video);
            std::vector<PacketHead> all;
            auto walker = clip->reader(video.id);
            PacketHead head;
            while (value(walker->next(head))) all.push_back(head);
            REQUIRE(all.size() == static_cast<std::size_t>(made.pictures) * 40);
            std::mt19937 random(5);
            auto reader = clip->reader(video.id);
            for (int i = 0; i < 120; ++i) {
                auto t = Time{static_cast<std::int64_t>(random() % static_cast<std::uint64_t>(made.each.ns * 40))};
                std::size_t wanted = 0;
                for (std::size_t k = 0; k < all.size(); ++k)
                    if (all[k].keyframe && all[k].pts <= t) wanted = k;
                if (i % 7 == 0) reader = clip->reader(video.id);
                done(reader->seek(t));
                for (std::size_t k = wanted; k < std::min(all.size(), wanted + 40); ++k) {
                    REQUIRE(value(reader->next(head)));
                    REQUIRE(head.pts == all[k].pts);
                    REQUIRE(head.offset == all[k].offset);
                }
            }
        }
}

TEST_CASE("An hour of fragments over a network: a seek fetches the index and what it needs", "[isobmff][seek]") {
    for (auto index : {Index::sidx, Index::mfra}) {
        auto made = long_clip(3600, index);
        INFO("index " << static_cast<int>(index) << ", " << made.bytes.size() << " bytes");
        auto server = demo::LoopbackServer::start();
        server->serve("/long.mp4", {.body = made.bytes});
        auto source = value(open_source(server->address("/long.mp4")));
        auto clip = std::shared_ptr<Clip>(value(open_clip(source)));
        CHECK(clip->info().duration >= made.each * 3600);
        auto& video = *clip->info().main(Kind::video);
        auto opening = server->requests();
        CHECK(opening <= 8);  // not one for each of 3,600; on a slow machine one may be asked for twice
        auto reader = clip->reader(video.id);
        std::mt19937 random(3);
        for (int i = 0; i < 10; ++i) {
            auto before = server->requests();
            auto t = made.each * static_cast<std::int64_t>(random() % 3500);
            done(reader->seek(t + 10_ms));
            PacketHead head;
            REQUIRE(value(reader->next(head)));
            CHECK(head.pts <= t + 10_ms);
            CHECK(head.pts >= t - made.each);
            CHECK(server->requests() - before <= 3);
        }
    }
}
