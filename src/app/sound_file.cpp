// SPDX-License-Identifier: Apache-2.0
#include "sound_file.h"

#include <fmt/format.h>

namespace ruedo {
namespace {
constexpr std::size_t most_waiting = 2048;
}

Result<std::unique_ptr<WavFile>> WavFile::create(Mixer& mixer, const std::filesystem::path& path,
                                                 const std::string& source, bool replace) {
    std::error_code ec;
    if (std::filesystem::equivalent(path, source, ec))
        return fail(ErrorCode::exists,
                    fmt::format("“{}” is what is being played; it is not written over.", path.string()),
                    "Choose another name.");
    RUEDO_TRY(auto wav, WavWriter::create(path, replace));
    return std::unique_ptr<WavFile>(new WavFile(mixer, std::move(wav)));
}

WavFile::WavFile(Mixer& mixer, WavWriter wav) : mixer_(mixer), wav_(std::move(wav)) {
    thread_ = std::thread([this] {
        std::unique_lock lock(mutex_);
        for (;;) {
            changed_.wait(lock, [this] { return ending_ || !waiting_.empty(); });
            if (waiting_.empty()) return;
            auto block = std::move(waiting_.front());
            waiting_.pop_front();
            lock.unlock();
            changed_.notify_all();
            write(block);
            lock.lock();
        }
    });
    mixer_.on_mix([this](std::span<const float> samples, std::int64_t frame) {
        std::unique_lock lock(mutex_);
        changed_.wait(lock, [this] { return ending_ || waiting_.size() < most_waiting; });
        waiting_.push_back({{samples.begin(), samples.end()}, frame});
        changed_.notify_all();
    });
}

WavFile::~WavFile() { stop(); }

void WavFile::stop() {
    mixer_.on_mix({});
    {
        std::lock_guard lock(mutex_);
        ending_ = true;
    }
    changed_.notify_all();
    if (thread_.joinable()) thread_.join();
}

/// What sounds before anything of the source does is left out, or stands for the time before playing began.
void WavFile::write(const Block& block) {
    auto mark = mixer_.first_mark();
    if (!mark || !outcome_) return;
    if (!next_) {
        next_ = mark->first - time_to_ticks(mark->second, mix_rate);
        for (; *next_ < block.frame && outcome_; ++*next_) {
            auto n = std::min<std::int64_t>(block.frame - *next_, mix_rate);
            outcome_ = wav_.write(std::vector<float>(static_cast<std::size_t>(n) * 2));
            *next_ += n - 1;
        }
    }
    auto skip = static_cast<std::size_t>(
        std::clamp<std::int64_t>(*next_ - block.frame, 0, static_cast<std::int64_t>(block.samples.size() / 2)));
    if (outcome_) outcome_ = wav_.write(std::span(block.samples).subspan(skip * 2));
    next_ = std::max(*next_, block.frame + static_cast<std::int64_t>(block.samples.size() / 2));
}

Status WavFile::finish() {
    stop();
    RUEDO_TRY_DO(outcome_);
    return wav_.finish();
}

}  // namespace ruedo
