// SPDX-License-Identifier: Apache-2.0
#include "stream/fetch.h"

#include <curl/curl.h>
#include <fmt/format.h>
#include <openssl/evp.h>

#include "io/transfer.h"

namespace ruedo::stream {

Result<Fetch::Got> Fetch::get(const std::string& address, std::optional<ByteSource::Range> range, std::size_t limit,
                              const HttpClient::Watch& watch) {
    auto begun = monotonic_now();
    if (!is_address(address)) {
        RUEDO_TRY(auto file, open_file(address));
        auto size = file->size().value_or(0);
        auto part = range.value_or(ByteSource::Range{0, size});
        part.to = std::min(part.to, size);
        if (part.from >= part.to)
            return fail(ErrorCode::truncated, fmt::format("“{}” ends before byte {}.", file->name(), part.from),
                        "The playlist and its file do not belong together; make them again.");
        if (part.to - part.from > limit)
            return fail(ErrorCode::limit, fmt::format("“{}” is larger than {} bytes.", file->name(), limit),
                        "Is it what was meant?");
        Bytes bytes(static_cast<std::size_t>(part.to - part.from));
        RUEDO_TRY(auto got, file->read_at(part.from, bytes));
        bytes.resize(got);
        return Got{std::move(bytes), address, monotonic_now() - begun, {}};
    }
    RUEDO_TRY(auto answer, client_.get(address, range, limit, watch));
    if (auto e = transfer::status_error(answer.status, address)) return std::unexpected(*e);
    if (answer.status == 416 || (answer.body.empty() && range))
        return fail(ErrorCode::truncated,
                    fmt::format("“{}” has no bytes from {} on.", transfer::last_part(address), range ? range->from : 0),
                    "The playlist and its file do not belong together; make them again.");
    std::optional<Time> date;
    if (auto it = answer.headers.find("date"); it != answer.headers.end())
        if (auto t = curl_getdate(it->second.c_str(), nullptr); t > 0) date = 1_s * t;
    return Got{std::move(answer.body), std::move(answer.address), answer.took, date};
}

namespace {
Result<Bytes> crypt(ByteView in, ByteView key, const std::array<std::uint8_t, 16>& iv, bool encrypting) {
    auto* context = EVP_CIPHER_CTX_new();
    Bytes out(in.size() + 16);
    int n = 0, rest = 0;
    bool fine = key.size() == 16 &&
                EVP_CipherInit_ex(context, EVP_aes_128_cbc(), nullptr, key.data(), iv.data(), encrypting) == 1 &&
                EVP_CipherUpdate(context, out.data(), &n, in.data(), static_cast<int>(in.size())) == 1 &&
                EVP_CipherFinal_ex(context, out.data() + n, &rest) == 1;
    EVP_CIPHER_CTX_free(context);
    if (!fine)
        return fail(ErrorCode::encrypted, "A segment can’t be decrypted with the key that is stated for it.",
                    "Check that key and segments belong together.");
    out.resize(static_cast<std::size_t>(n + rest));
    return out;
}
}  // namespace

std::array<std::uint8_t, 16> vector_of(std::uint64_t number) {
    std::array<std::uint8_t, 16> iv{};
    for (std::size_t i = 0; i < 8; ++i) iv[15 - i] = static_cast<std::uint8_t>(number >> (8 * i));
    return iv;
}
Result<Bytes> decrypt(ByteView bytes, ByteView key, const std::array<std::uint8_t, 16>& iv) {
    return crypt(bytes, key, iv, false);
}
Bytes encrypt(ByteView bytes, ByteView key, const std::array<std::uint8_t, 16>& iv) {
    return crypt(bytes, key, iv, true).value_or(Bytes{});
}

}  // namespace ruedo::stream
