// SPDX-License-Identifier: Apache-2.0
#include "codec/stretches.h"

#include <fmt/format.h>

#include "io/io.h"

namespace ruedo {

Stretches::Stretches(PictureReader& first, std::unique_ptr<PictureReader> second, std::size_t most)
    : second_(std::move(second)), most_(most), from_(first.place()) {
    lanes_[0].reader = &first, lanes_[1].reader = second_.get();
    for (std::size_t lane : {0U, 1U}) lanes_[lane].thread = std::thread([this, lane] { read(lane); });
}

Stretches::~Stretches() {
    {
        std::lock_guard lock(mutex_);
        stop_ = true;
    }
    changed_.notify_all();
    for (auto& lane : lanes_) lane.thread.join();
}

/// Of all stretches, which both lanes find alike, this one's.
void Stretches::read(std::size_t lane) {
    auto& self = lanes_[lane];
    std::optional<Error> broken;
    try {
        ReadScope scope(&stop_);
        std::optional begin(from_);
        bool more = true;
        for (std::size_t number = 0; begin && more; ++number) {
            auto end = self.reader->keyframe_within(*begin + 500_ms, *begin + 20_s);
            if (number % 2 == lane) more = read_stretch(number, *begin, end);
            begin = end;
        }
    } catch (const std::exception& e) {
        broken = Error{Code::internal, fmt::format("Decoding ahead broke off: {}.", e.what()), ""};
    }
    std::lock_guard lock(mutex_);
    if (broken) self.ready.push_back({std::unexpected(*broken), false}), ++held_;
    self.done = true;
    changed_.notify_all();
}

/// False when nothing more is to be read here.
bool Stretches::read_stretch(std::size_t number, Time begin, std::optional<Time> end) {
    auto& lane = lanes_[number % 2];
    auto& reader = *lane.reader;
    auto damaged = reader.damaged();
    if (number > 0 && !reader.begin_at(begin)) return false;
    for (bool first = number > 0;; first = false) {
        Ready ready{reader.next(&stop_)};
        ready.goes_on = ready.is_picture();
        if (first) {
            if (!ready.goes_on || (*ready.picture)->pts != begin || reader.damaged() != damaged) return false;
            std::lock_guard lock(mutex_);
            lane.begun = number;
            changed_.notify_all();
        }
        if (ready.goes_on && end && (*ready.picture)->pts >= *end) {
            if (next_begins_well(number)) return put(number, {std::nullopt});
            end.reset();
        }
        bool more = ready.goes_on;
        if (!put(number, std::move(ready)) || !more) return false;
    }
}

bool Stretches::next_begins_well(std::size_t number) {
    std::unique_lock lock(mutex_);
    auto& other = lanes_[(number + 1) % 2];
    changed_.wait(lock, [&] { return stop_ || other.done || other.begun > number; });
    return other.begun > number;
}

/// Waits for room; false when nobody wants it any more.
bool Stretches::put(std::size_t number, Ready ready) {
    std::unique_lock lock(mutex_);
    auto& lane = lanes_[number % 2];
    auto room = [&](std::size_t spare) {
        return held_ + spare < most_ || (number == turn_ && lane.ready.size() + spare < few_);
    };
    // Whoever has to wait goes on once there is work for a while.
    if (!room(0)) changed_.wait(lock, [&] { return stop_ || room(few_ / 2); });
    if (stop_) return false;
    bool wanted = number == turn_ && (!ready.is_picture() || lane.ready.size() + 1 >= few_ / 2);
    lane.ready.push_back(std::move(ready));
    ++held_;
    lock.unlock();
    if (wanted) changed_.notify_all();
    return true;
}

Result<std::optional<Picture>> Stretches::next() {
    std::unique_lock lock(mutex_);
    while (!ended_) {
        auto& lane = lanes_[turn_ % 2];
        auto enough = [&] {
            return lane.ready.size() >= few_ / 2 || (!lane.ready.empty() && !lane.ready.back().is_picture());
        };
        if (lane.ready.empty()) changed_.wait(lock, enough);
        auto ready = std::move(lane.ready.front());
        lane.ready.pop_front();
        --held_;
        bool turns = ready.goes_on && !ready.is_picture();
        turn_ += turns;
        ended_ = !ready.goes_on;
        if (turns || lane.ready.size() + few_ / 2 + 1 == few_ || held_ + few_ / 2 + 1 == most_) changed_.notify_all();
        if (!turns) return std::move(ready.picture);
    }
    return std::nullopt;
}

}  // namespace ruedo
