// SPDX-License-Identifier: Apache-2.0
// What a clip says of its tracks (RFC 9559 clause 5.1.4).
#pragma once
#include "container/matroska/blocks.h"

namespace ruedo::matroska {

struct TrackEntry {
    Track track;  ///< Its number is 0 where it has none.
    TrackExtra extra;
};
/// A track as its entry describes it; `file` is for sentences. What can't be played says why.
TrackEntry read_track(ByteView entry, const std::string& file);

}  // namespace ruedo::matroska
