// SPDX-License-Identifier: Apache-2.0
#pragma once
#include <atomic>
#include <exception>
#include <fmt/format.h>
#include <functional>
#include <thread>

#include "base/bounded.h"
#include "base/priority.h"
#include "base/result.h"

namespace ruedo {

/// One stage of a job: makes values on a thread of its own, a few ahead. One thread takes them.
template <class T>
class Ahead {
  public:
    /// The next value, nothing at the end; looks at the flag where it takes long.
    using Make = std::function<Result<std::optional<T>>(const std::atomic<bool>& stop)>;
    /// With `in_gaps` the consumer keeps the processors busy but for gaps, as an encoder's threads do: making
    /// gives way and goes on in those.
    Ahead(std::size_t most, bool in_gaps, Make make)
        : ready_(most), thread_([this, in_gaps, make = std::move(make)] {
              if (in_gaps) lower_priority();
              try {
                  for (;;) {
                      auto value = make(stop_);
                      if (!value) ready_.put(std::unexpected(value.error()));
                      if (!value || !*value || !ready_.put(std::move(**value))) break;
                  }
              } catch (const std::exception& e) {
                  ready_.put(fail(ErrorCode::internal, fmt::format("Working ahead broke off: {}.", e.what())));
              }
              ready_.close();
          }) {}
    /// Waits for the value that is being made.
    ~Ahead() {
        stop_ = true;
        ready_.close();
        thread_.join();
    }
    Ahead(const Ahead&) = delete;
    Ahead& operator=(const Ahead&) = delete;
    /// Waits for the next value; after an error or the end it gives the end, and nothing is made any more.
    Result<std::optional<T>> next() {
        auto value = ready_.take();
        if (!value) return std::nullopt;
        if (!*value) return std::unexpected(value->error());
        return std::move(**value);
    }

  private:
    Bounded<Result<T>> ready_;
    std::atomic<bool> stop_ = false;
    std::thread thread_;
};

}  // namespace ruedo
