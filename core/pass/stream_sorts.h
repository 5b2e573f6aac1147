// The sorts of streams, a file each: a new protocol that fits none is one more, and a row in stream_decoder.cpp.
#pragma once

#include "pass/stream_decoder.h"

namespace mt {

std::unique_ptr<StreamDecoder> make_itm_stream(const StreamDecoder::Place& place);
std::unique_ptr<StreamDecoder> make_step_stream(const StreamDecoder::Place& place);
std::unique_ptr<StreamDecoder> make_event_stream(const StreamDecoder::Place& place);
std::unique_ptr<StreamDecoder> make_polled_stream(const StreamDecoder::Place& place);
std::unique_ptr<StreamDecoder> make_console_stream(const StreamDecoder::Place& place);
std::unique_ptr<StreamDecoder> make_sample_stream(const StreamDecoder::Place& place);

}  // namespace mt
