#include <ruedo/playback/playback.h>

int main(int, char** argv) {
    std::shared_ptr<ruedo::VirtualStrand> strand = ruedo::make_virtual_strand();
    ruedo::Mixer mixer(*strand);
    ruedo::CodecRegistry codecs(RUEDO_CODECS);
    auto sink = ruedo::make_null_sink({});
    ruedo::Controller controller({strand, &mixer, &codecs, sink});
    controller.open(argv[1], {.start = {ruedo::Start::How::play, {}}});
    strand->run_until(strand->now() + ruedo::Time{60'000'000'000});
    return controller.snapshot().state.phase == ruedo::Phase::ended ? 0 : 1;
}
