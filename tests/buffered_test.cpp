// SPDX-License-Identifier: Apache-2.0
// How far a clip that comes in over a network could be played, while it comes in.
#include "container/buffered.h"
#include "container/container.h"
#include "mpeg_makers.h"
#include "support.h"

using namespace ruedo;
using namespace ruedo::test;

namespace {
/// Comes in from its beginning on. Who waits for bytes gets them, and where it `keeps` them they are there from then
/// on.
class Arriving final : public ByteSource {
  public:
    Arriving(std::shared_ptr<ByteSource> all, bool keeps)
        : all_(std::move(all)), keeps_(keeps), here_(*size() / block + 1) {}
    Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> into) override {
        for (auto i = offset / block; i * block < std::min(offset + into.size(), *size()); ++i)
            if (here_[i])
                continue;
            else if (!ReadScope::only_buffered())
                here_[i] = keeps_;
            else
                return fail(ErrorCode::timeout, "These bytes are not here yet.");
        return all_->read_at(offset, into);
    }
    std::optional<std::uint64_t> size() const override { return all_->size(); }
    bool cheap_to_seek() const override { return false; }
    const std::string& name() const override { return all_->name(); }
    std::optional<std::vector<Range>> buffered() const override {
        std::vector<Range> list;
        for (std::uint64_t i = 0; i < here_.size(); ++i) {
            if (!here_[i]) continue;
            if (list.empty() || list.back().to != i * block) list.push_back({i * block, 0});
            list.back().to = (i + 1) * block;
        }
        return list;
    }
    void come(std::uint64_t to) { std::fill_n(here_.begin(), to / block + 1, true); }

  private:
    static constexpr std::uint64_t block = 128;
    std::shared_ptr<ByteSource> all_;
    bool keeps_;
    std::vector<bool> here_;
};

/// How often it was seen to grow.
int grows(const std::shared_ptr<ByteSource>& whole, bool keeps, bool playing) {
    INFO(whole->name() << (playing ? ", played" : ", held") << (keeps ? ", kept" : ""));
    auto bytes = std::make_shared<Arriving>(whole, keeps);
    auto clip = value(open_clip(bytes));
    auto tracks = clip->info().tracks;
    std::erase_if(tracks, [](auto& t) { return t.kind != Kind::video && t.kind != Kind::audio; });
    constexpr unsigned steps = 60;
    Time position{}, before{}, end{};
    auto all = value(open_clip(whole));
    for (auto& t : tracks) {
        auto reader = all->reader(t.id);
        for (PacketHead head; value(reader->next(head));)
            end = std::max(end, std::min(head.pts + head.duration, t.end));
    }
    int grew = 0;
    for (unsigned i = 1; i <= steps; ++i) {
        bytes->come(*bytes->size() * i / steps);
        auto range = clip->buffered(tracks, position).value();
        INFO(i << " of " << steps << " are here, at " << position.seconds() << " s");
        CHECK(range.to >= before);
        // Who begins to look only now sees as far.
        auto anew = BufferedWalk(bytes, *clip, tracks).around({}).to;
        CHECK(range.to.ns == std::max(anew, position).ns);
        grew += range.to > before;
        before = range.to;
        // Now and then all that is here has been played, and a little more.
        if (playing) position = std::min(end, i % 7 ? std::max(position, before * 2 / 3) : before + 15_ms);
    }
    CHECK(before >= end - 100_ms);
    return end > 2_s ? grew : steps;
}
}  // namespace

TEST_CASE("What could be played of a clip grows as it comes in, and never shrinks", "[buffer]") {
    std::vector<float> tone(48000 * 4);
    for (std::size_t i = 0; i < tone.size(); ++i) tone[i] = 0.3F * std::sin(static_cast<float>(i) * 0.05F);
    auto audio = make_ac3(tone);
    std::vector<std::shared_ptr<ByteSource>> clips{
        memory_source(make_program_stream(mpeg_video(100), audio, true), "one.mpg"),
        memory_source(make_program_stream(mpeg_video(100, {.second = true}), audio, false), "two.mpg"),
        memory_source(make_avi("XVID", mpeg4_video(100, 2, false)), "plain.avi"),
        memory_source(make_avi("XVID", mpeg4_video(100, 1, true)), "packed.avi")};
    for (auto& name : playable()) clips.push_back(memory_source(bytes_of(fixture(name)), name));
    for (auto& clip : clips)
        for (bool playing : {false, true}) {
            // Opening looks at the ends of small ones and so at all of them; and nothing can be made of an MP4 without
            // its index.
            auto most = std::max(grows(clip, true, playing), grows(clip, false, playing));
            INFO(clip->name());
            CHECK(most >= 4);
        }
}

TEST_CASE("What could be played is told of the tracks that are played", "[buffer]") {
    auto bytes = std::make_shared<Arriving>(value(open_source(fixture("two_audio_languages.mkv").string())), true);
    auto clip = value(open_clip(bytes));
    auto& all = clip->info().tracks;
    bytes->come(*bytes->size() / 2);
    // Each by itself, in turn, and each as a walk of its own sees it.
    for (int round = 0; round < 2; ++round)
        for (auto& t : all)
            CHECK(clip->buffered({t}, {}).value().to.ns == BufferedWalk(bytes, *clip, {t}).around({}).to.ns);
    CHECK(clip->buffered({all[0]}, {}) != clip->buffered({all[1]}, {}));
}
