// SPDX-License-Identifier: Apache-2.0
// Whatever the bytes are: open, walk every track, seek. Seeds: tests/fixtures.
#include "container/container.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    using namespace ruedo;
    auto clip = open_clip(memory_source({data, data + size}, "input"));
    if (!clip) return 0;
    for (auto& track : (*clip)->info().tracks) {
        auto reader = (*clip)->reader(track.id);
        PacketHead head;
        Bytes bytes;
        for (int i = 0; i < 2000 && reader->next(head).value_or(false); ++i)
            if (!reader->read(bytes)) break;
        if (reader->seek(2'000_ms)) (void)reader->next(head);
    }
    return 0;
}
