// SPDX-License-Identifier: Apache-2.0
#include "io/transfer.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <condition_variable>
#include <list>
#include <map>
#include <mutex>
#include <thread>

namespace ruedo {
using namespace transfer;
namespace {

constexpr std::uint64_t block_size = 32 << 10;
/// A wanted byte this close ahead of the running transfer is waited for; a new request would take as long.
constexpr std::uint64_t near = 128 << 10;

class Source final : public HttpSource {
  public:
    Source(std::string address, HttpOptions options)
        : address_(std::move(address)), name_(last_part(address_)), options_(std::move(options)) {
        start_curl();
        if (name_.empty()) name_ = host_of(address_);
        multi_ = curl_multi_init();
    }
    ~Source() override {
        cancel();
        if (thread_.joinable()) thread_.join();
        curl_multi_cleanup(multi_);
    }

    Result<std::size_t> read_at(std::uint64_t offset, std::span<std::uint8_t> into) override {
        std::unique_lock lock(mutex_);
        std::size_t done = 0;
        std::optional<std::list<std::uint64_t>::iterator> waiting;
        auto leave = [&] {
            if (waiting) wanted_.erase(*waiting);
        };
        // However slowly bytes drip, a read ends: with progress worth the name it goes on, without it is given up.
        auto begun = monotonic_now(), until = begun + options_.patience;
        auto before_drip = received_;
        // Who only looks at what is here uses none of it up: what is ahead of it is not wanted sooner for that.
        auto looking = ReadScope::only_buffered();
        for (;;) {
            // Cancelling takes effect however fast bytes arrive.
            if (!ReadScope::given_up()) done += take(offset + done, into.subspan(done), !looking);
            if (received_ > before_drip + 4096) before_drip = received_, until = monotonic_now() + options_.patience;
            if (!looking) last_read_ = offset + done;
            if ((done == into.size() || (size_ && offset + done >= *size_)) && !ReadScope::given_up()) break;
            if (cancelled_) {
                leave();
                return fail(ErrorCode::cancelled, "Reading was given up.");
            }
            if (ReadScope::given_up()) {
                auto stop = ReadScope::stopped(
                    received_ == 0 ? fmt::format("“{}” had not sent a byte of “{}”", host_of(address_), name_)
                                   : fmt::format("“{}” had sent {} bytes of “{}”, and more were needed",
                                                 host_of(address_), received_, name_));
                leave();
                return std::unexpected(stop);
            }
            if (error_) {
                leave();
                return std::unexpected(*error_);
            }
            if (looking) {
                leave();
                return fail(ErrorCode::timeout, "These bytes are not here yet.");
            }
            if (monotonic_now() > until) {
                leave();
                return fail(ErrorCode::timeout,
                            received_ == 0 ? fmt::format("“{}” did not send anything within {:.0f} s.",
                                                         host_of(address_), options_.patience.seconds())
                                           : fmt::format("“{}” has sent next to nothing for {:.0f} s.",
                                                         host_of(address_), options_.patience.seconds()),
                            "Check the network and the server, then try again.");
            }
            if (!waiting)
                waiting = wanted_.insert(wanted_.end(), offset + done);
            else
                **waiting = offset + done;
            if (!thread_.joinable()) thread_ = std::thread([this] { run(); });
            curl_multi_wakeup(multi_);
            changed_.wait_for(lock, std::chrono::milliseconds(50));
        }
        leave();
        curl_multi_wakeup(multi_);
        if (!looking && !ReadBudget::spend(done))
            return fail(ErrorCode::limit,
                        fmt::format("“{}” goes on and on with nothing in it that could be played.", name_),
                        "Check what the server sends.");
        return done;
    }
    std::optional<std::uint64_t> size() const override {
        std::lock_guard lock(mutex_);
        return size_;
    }
    const std::string& name() const override { return name_; }
    bool cheap_to_seek() const override { return false; }
    std::optional<std::string> address() const override { return address_; }
    bool forward_only() const override {
        std::lock_guard lock(mutex_);
        return !ranges_;
    }
    void cancel() override {
        std::lock_guard lock(mutex_);
        cancelled_ = true;
        changed_.notify_all();
        curl_multi_wakeup(multi_);
    }
    std::optional<std::vector<Range>> buffered() const override {
        std::lock_guard lock(mutex_);
        std::vector<Range> list;
        for (auto& [start, b] : blocks_) {
            if (b.data.empty()) continue;
            if (!list.empty() && list.back().to == start)
                list.back().to += b.data.size();
            else
                list.push_back({start, start + b.data.size()});
        }
        return list;
    }
    std::uint64_t received() const override {
        std::lock_guard lock(mutex_);
        return received_;
    }
    std::uint64_t requests() const override {
        std::lock_guard lock(mutex_);
        return requests_;
    }
    bool serves_parts() const override {
        std::lock_guard lock(mutex_);
        return ranges_;
    }

  private:
    struct Block {
        Bytes data;
        std::uint64_t used = 0;
    };

    // ---- with the mutex held

    std::size_t take(std::uint64_t offset, std::span<std::uint8_t> into, bool use) {
        std::size_t done = 0;
        while (done < into.size()) {
            auto at = offset + done, start = at / block_size * block_size;
            auto it = blocks_.find(start);
            if (it == blocks_.end() || at - start >= it->second.data.size()) break;
            auto n = std::min<std::uint64_t>(into.size() - done, it->second.data.size() - (at - start));
            std::copy_n(it->second.data.begin() + static_cast<std::ptrdiff_t>(at - start), n,
                        into.begin() + static_cast<std::ptrdiff_t>(done));
            if (use) it->second.used = ++clock_;
            done += static_cast<std::size_t>(n);
        }
        return done;
    }
    bool have(std::uint64_t at) const {
        auto it = blocks_.find(at / block_size * block_size);
        return it != blocks_.end() && at % block_size < it->second.data.size();
    }
    /// The first byte from `at` on that is not here.
    std::uint64_t missing_from(std::uint64_t at) const {
        for (;;) {
            auto it = blocks_.find(at / block_size * block_size);
            if (it == blocks_.end()) return at;
            if (it->second.data.size() < block_size) return std::max(at, it->first + it->second.data.size());
            at = it->first + block_size;
        }
    }
    void store(ByteView data) {
        while (!data.empty()) {
            auto start = position_ / block_size * block_size, within = position_ - start;
            auto n = std::min<std::uint64_t>(data.size(), block_size - within);
            auto& b = blocks_[start];
            // Blocks are kept from their start on without holes; bytes before a hole's end are skipped.
            if (b.data.size() >= within && b.data.size() < within + n)
                b.data.insert(b.data.end(), data.begin() + static_cast<std::ptrdiff_t>(b.data.size() - within),
                              data.begin() + static_cast<std::ptrdiff_t>(n));
            b.used = ++clock_;
            position_ += n;
            data = data.subspan(static_cast<std::size_t>(n));
        }
        while (blocks_.size() > std::max<std::uint64_t>(4, options_.window / block_size)) {
            auto oldest = std::min_element(blocks_.begin(), blocks_.end(),
                                           [](auto& a, auto& b) { return a.second.used < b.second.used; });
            blocks_.erase(oldest);
        }
    }
    bool satisfied(std::uint64_t at) const { return have(at) || (size_ && at >= *size_); }
    /// Where the next byte should come from: what somebody waits for, else what follows the last read.
    std::optional<std::uint64_t> goal() const {
        for (auto at : wanted_)
            if (!satisfied(at)) return at;
        if (!ranges_) return std::nullopt;
        auto at = missing_from(last_read_);
        if (size_ && at >= *size_) return std::nullopt;
        return at < last_read_ + options_.ahead ? std::optional(at) : std::nullopt;
    }
    bool somebody_waits() const {
        return std::any_of(wanted_.begin(), wanted_.end(), [&](auto at) { return !satisfied(at); });
    }

    /// The whole has been begun anew too often.
    Error too_often() const {
        auto host = host_of(address_);
        if (!size_ || *size_ > options_.window)
            return {
                ErrorCode::network,
                fmt::format("“{}” does not serve parts of “{}”, and it is too large to be kept whole.", host, name_),
                "Use a server that serves ranges, or put the index in front."};
        return {ErrorCode::network,
                fmt::format("“{}” breaks off “{}” again and again, and does not serve the rest of it.", host, name_),
                "Use a server that serves ranges, or a better link."};
    }

    // ---- the transfer's thread

    static std::size_t on_header(char* text, std::size_t size, std::size_t count, void* self) {
        return static_cast<Source*>(self)->header({text, size * count});
    }
    static std::size_t on_body(char* data, std::size_t size, std::size_t count, void* self) {
        return static_cast<Source*>(self)->body({reinterpret_cast<const std::uint8_t*>(data), size * count});
    }
    std::size_t header(std::string_view line) {
        std::lock_guard lock(mutex_);
        if (line.starts_with("HTTP/")) headers_.clear();  // of the final answer, after redirects
        if (auto colon = line.find(':'); colon != std::string_view::npos)
            headers_[lower(line.substr(0, colon))] = trimmed(line.substr(colon + 1));
        return line.size();
    }
    /// Looks at an answer's head once; false when its body is not wanted.
    bool accept() {
        long status = 0;
        curl_easy_getinfo(easy_, CURLINFO_RESPONSE_CODE, &status);
        status_ = status;
        if (auto e = status_error(status, address_)) {
            permanent_ = status < 500 && status != 429;
            if (auto it = headers_.find("retry-after"); it != headers_.end() && (status == 429 || status == 503)) {
                int seconds = 0;
                std::from_chars(it->second.data(), it->second.data() + it->second.size(), seconds);
                wait_ = std::clamp(1_s * seconds, 0_s, 10_s);
            }
            problem_ = e;
            return false;
        }
        auto host = host_of(address_);
        auto stop = [&](Error e) {
            permanent_ = true;
            problem_ = std::move(e);
            return false;
        };
        if (auto it = headers_.find("content-encoding"); it != headers_.end() && lower(it->second) != "identity")
            return stop(
                {ErrorCode::network,
                 fmt::format("“{}” sends “{}” compressed ({}), which can’t be read by parts.", host, name_, it->second),
                 "Let the server send media as they are."});
        std::string mark = headers_.contains("etag")            ? headers_["etag"]
                           : headers_.contains("last-modified") ? headers_["last-modified"]
                                                                : "";
        std::optional<std::uint64_t> total;
        auto part = part_sent(headers_["content-range"]);
        if (status == 206) {
            total = part.of;
            if (part.from != position_) return stop(other_part(address_));
        } else if (status == 200) {
            // The length of a body that comes in chunks is none (RFC 9112 clause 6.3).
            if (headers_.contains("content-length") && !headers_.contains("transfer-encoding"))
                total = number_in(headers_["content-length"]);
            if (position_ > 0) {
                // The whole instead of a part: from now on everything is read from the front.
                ranges_ = false;
                position_ = 0;
                if (++restarts_ > 3) return stop(too_often());
            } else if (auto it = headers_.find("accept-ranges"); it == headers_.end() || lower(it->second) != "bytes") {
                // A part was asked for and the whole is sent, without a word of parts being served.
                ranges_ = false;
            }
        } else if (status == 416) {
            if (size_ && position_ < *size_)
                return stop({ErrorCode::network,
                             fmt::format("“{}” has fewer bytes of “{}” than the {} it spoke of.", host, name_, *size_),
                             "The file on the server is cut short, or the server miscounts."});
            size_ = std::min(position_, part.of.value_or(position_));
            return false;
        }
        bool changed = (!mark_.empty() && !mark.empty() && mark != mark_) || (size_ && total && *size_ != *total);
        if (changed)
            return stop({ErrorCode::network,
                         fmt::format("“{}” was changed on “{}” while it was being read.", name_, host),
                         "Open it again to have the new one."});
        if (!mark.empty()) mark_ = mark;
        if (total) size_ = total;
        return true;
    }
    std::size_t body(ByteView data) {
        std::lock_guard lock(mutex_);
        if (!accepted_) {
            if (!accept()) return 0;
            accepted_ = true;
        }
        received_ += data.size();
        // A byte now and then does not count as an answer that goes on.
        if (received_ >= drip_from_ + 1024 || !somebody_waits()) drip_from_ = received_, last_byte_ = monotonic_now();
        failures_ = 0;
        store(data);
        changed_.notify_all();
        // Nothing is fetched for its own sake: enough is ahead, or the next bytes are here already.
        auto at = goal();
        bool on_the_way = at && *at >= position_ && *at <= position_ + (ranges_ ? near : UINT64_MAX - position_);
        bool going = cancelled_ ? false
                     : ranges_  ? on_the_way
                                : somebody_waits() || position_ < last_read_ + options_.ahead;
        if (!going && !ranges_ && !cancelled_) {
            paused_ = true;
            position_ -= data.size();
            received_ -= data.size();
            return CURL_WRITEFUNC_PAUSE;  // the same bytes are given again
        }
        if (!going) aborted_ = true;
        return going ? data.size() : 0;
    }

    void run() {
        std::unique_lock lock(mutex_);
        while (!cancelled_) {
            auto at = goal();
            if (!at || error_) {
                changed_.notify_all();
                lock.unlock();
                curl_multi_poll(multi_, nullptr, 0, 1000, nullptr);
                lock.lock();
                continue;
            }
            auto result = transfer(lock, *at);
            if (cancelled_) break;
            if (!result) {
                if (permanent_ || ++failures_ > options_.retries) {
                    error_ = *problem_;
                    changed_.notify_all();
                    continue;
                }
                auto until = monotonic_now() + std::max(250_ms * (1 << (failures_ - 1)), std::exchange(wait_, Time{}));
                while (!cancelled_ && monotonic_now() < until) {
                    lock.unlock();
                    curl_multi_poll(multi_, nullptr, 0, 50, nullptr);
                    lock.lock();
                }
            }
            changed_.notify_all();
        }
        changed_.notify_all();
    }

    /// One request from `at` on; false with `problem_` when it failed.
    bool transfer(std::unique_lock<std::mutex>& lock, std::uint64_t at) {
        // Parts begin at a block, or go on within one.
        auto start = at / block_size * block_size;
        auto it = blocks_.find(start);
        position_ = it == blocks_.end() ? start : start + it->second.data.size();
        if (!ranges_) position_ = 0;
        if (!ranges_ && requests_ > 0 && ++restarts_ > 4) {
            permanent_ = true;
            problem_ = too_often();
            return false;
        }
        accepted_ = aborted_ = paused_ = permanent_ = false;
        problem_.reset();
        headers_.clear();
        ++requests_;
        last_byte_ = monotonic_now();
        drip_from_ = received_;
        auto range = fmt::format("{}-", position_);
        lock.unlock();
        easy_ = curl_easy_init();
        curl_slist* list = curl_slist_append(nullptr, "Accept-Encoding: identity");
        for (auto& h : options_.headers) list = curl_slist_append(list, h.c_str());
        prepare(easy_, address_, options_, list);
        curl_easy_setopt(easy_, CURLOPT_RANGE, range.c_str());
        curl_easy_setopt(easy_, CURLOPT_HEADERFUNCTION, &Source::on_header);
        curl_easy_setopt(easy_, CURLOPT_HEADERDATA, this);
        curl_easy_setopt(easy_, CURLOPT_WRITEFUNCTION, &Source::on_body);
        curl_easy_setopt(easy_, CURLOPT_WRITEDATA, this);
        curl_multi_add_handle(multi_, easy_);
        std::optional<CURLcode> result;
        bool stalled = false;
        for (int running = 1; !result;) {
            curl_multi_perform(multi_, &running);
            int left = 0;
            while (auto* m = curl_multi_info_read(multi_, &left))
                if (m->msg == CURLMSG_DONE) result = m->data.result;
            if (result || running == 0) break;
            {
                std::lock_guard guard(mutex_);
                if (cancelled_) break;
                auto now = monotonic_now();
                if (paused_) {
                    last_byte_ = now;
                    if (somebody_waits() || position_ < last_read_ + options_.ahead / 2) paused_ = false;
                } else if (now - last_byte_ > (accepted_ ? options_.stall : options_.first_byte)) {
                    stalled = true;
                    break;
                }
                // Somebody waits for another place.
                if (auto g = goal(); g && (*g < position_ || (ranges_ && *g > position_ + near)) && somebody_waits()) {
                    aborted_ = true;
                    break;
                }
            }
            if (!paused_) curl_easy_pause(easy_, CURLPAUSE_CONT);
            curl_multi_poll(multi_, nullptr, 0, 50, nullptr);
        }
        curl_multi_remove_handle(multi_, easy_);
        lock.lock();
        // Of an answer without a body too, such as a redirect that is not followed.
        if (!accepted_) curl_easy_getinfo(easy_, CURLINFO_RESPONSE_CODE, &status_);
        bool good = cancelled_ || aborted_;
        if (!good && stalled) {
            problem_ = Error{ErrorCode::timeout,
                             fmt::format("“{}” sent nothing for {:.0f} s.", host_of(address_),
                                         (accepted_ ? options_.stall : options_.first_byte).seconds()),
                             "Check the network and the server, then try again."};
        } else if (!good && !problem_) {
            // An answer without a body is looked at here.
            if (result && *result == CURLE_OK && !accepted_) accepted_ = accept() || status_ == 416;
            if (result && *result == CURLE_OK && accepted_) {
                if (!size_) size_ = position_;  // the server did not say, and now it is known
                good = !problem_;
                // A server that closes early without saying so has lied about the length.
                if (position_ < *size_ && status_ != 416) {
                    good = false;
                    problem_ = Error{ErrorCode::network,
                                     fmt::format("“{}” ends “{}” after {} of {} bytes.", host_of(address_), name_,
                                                 position_, *size_),
                                     "The file on the server is cut short, or the server miscounts."};
                }
            } else if (!problem_) {
                auto code = result.value_or(CURLE_RECV_ERROR);
                problem_ = transfer_error(code, address_, options_, status_);
                permanent_ = code == CURLE_TOO_MANY_REDIRECTS || code == CURLE_URL_MALFORMAT ||
                             code == CURLE_UNSUPPORTED_PROTOCOL || problem_->code == ErrorCode::refused;
                if (code == CURLE_PARTIAL_FILE)
                    problem_ = Error{
                        ErrorCode::network,
                        fmt::format("“{}” breaks off after {} bytes of “{}”.", host_of(address_), position_, name_),
                        "The file on the server is cut short, or the connection is poor."};
            }
        } else if (!good && status_ == 416) {
            good = true;
        }
        curl_easy_cleanup(std::exchange(easy_, nullptr));
        curl_slist_free_all(list);
        if (!good && !problem_) problem_ = transfer_error(CURLE_RECV_ERROR, address_, options_, status_);
        return good;
    }

    const std::string address_;
    std::string name_;
    const HttpOptions options_;
    CURLM* multi_ = nullptr;
    CURL* easy_ = nullptr;
    std::thread thread_;

    mutable std::mutex mutex_;
    std::condition_variable changed_;
    std::map<std::uint64_t, Block> blocks_;
    std::list<std::uint64_t> wanted_;
    std::optional<std::uint64_t> size_;
    std::optional<Error> error_, problem_;
    std::map<std::string, std::string> headers_;
    std::string mark_;
    std::uint64_t position_ = 0, last_read_ = 0, clock_ = 0, received_ = 0, requests_ = 0, drip_from_ = 0;
    Time wait_{};
    int failures_ = 0, restarts_ = 0;
    long status_ = 0;
    Time last_byte_{};
    bool ranges_ = true, cancelled_ = false, accepted_ = false, aborted_ = false, permanent_ = false;
    std::atomic<bool> paused_ = false;
};

}  // namespace

std::shared_ptr<HttpSource> http_source(std::string address, HttpOptions options) {
    return std::make_shared<Source>(std::move(address), std::move(options));
}

}  // namespace ruedo
