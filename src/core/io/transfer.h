// SPDX-License-Identifier: Apache-2.0
// One transfer over http: how every request is set up, and what went wrong with it in words.
#pragma once
#include <curl/curl.h>

#include "io/http.h"

namespace ruedo::transfer {

void start_curl();
std::string lower(std::string_view s);
/// Without spaces and line ends on either side.
std::string_view trimmed(std::string_view s);
/// The last part of an address’s path, without escapes: what a file would be called.
std::string last_part(const std::string& address);
std::string host_of(const std::string& address);
/// A header’s whole number; nothing where it is none.
std::optional<std::uint64_t> number_in(std::string_view s);
/// A Content-Range (RFC 9110 clause 14.4): where the part begins, and of how many bytes, as far as it says.
struct PartSent {
    std::optional<std::uint64_t> from, of;
};
PartSent part_sent(std::string_view content_range);
Error other_part(const std::string& address);
/// Settings that every request shares.
void prepare(CURL* easy, const std::string& address, const HttpOptions& o, curl_slist* headers);
Error transfer_error(CURLcode code, const std::string& address, const HttpOptions& o, long status);
/// Nothing when the status is one that brings bytes.
std::optional<Error> status_error(long status, const std::string& address);

}  // namespace ruedo::transfer
