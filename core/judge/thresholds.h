// How far from usual something has to be to be told. The defaults need no setting for any target; rules of a project
// may be stricter. Each name says what it bounds; factors are of what is usual for the same activity.
#pragma once

#include <cstddef>

#include "base/time.h"

namespace mt {

struct Thresholds {
    /// Entries of a periodic interrupt against its own grid.
    struct Lateness {
        std::size_t fewest = 30;        ///< periods below which nothing can be called normal
        double steady = 0.985;          ///< share of the periods near the median that makes a grid
        double factor = 5;              ///< of what 99 % are within
        Time least = Time::from_us(4);  ///< below which nobody worries
        double of_period = 0.02;        ///< … nor below this share of the period, up to
        Time of_period_most = Time::from_us(20);
        double eats_period = 0.25;   ///< held off by other handlers: told above this share of the period
        double rare = 0.01;          ///< of its executions at most, or that is how it is
        double missed_most = 0.005;  ///< the same for activations that stayed away
        double missed_turns = 20;    ///< a longer pause is the source's own doing
    } lateness;

    /// One execution of an interrupt against its others.
    struct Execution {
        std::size_t fewest = 50;
        double of_p99 = 2;              ///< times what 99 % are under
        double spreads = 8;             ///< times the distance from the median to 95 %
        Time least = Time::from_us(1);  ///< beyond the median
        double rare = 0.004;
    } execution;

    struct Storm {
        std::size_t run = 16;          ///< entries in a row that are looked at together
        double denser = 4;             ///< times as dense as usual
        std::size_t episodes = 2;      ///< more of them are meant to be
        std::size_t lone_fewest = 50;  ///< entries of a burst that has hardly any beside it
        double lone_share = 0.8;       ///< of all its entries lie in that burst …
        double lone_span = 0.1;        ///< … which takes at most this share of the recording
    } storm;

    struct Nest {
        unsigned least = 3;          ///< handlers within handlers
        double rare = 1.0 / 20'000;  ///< share of all executions that are so deep
        std::size_t fewest = 2'000;
    } nest;

    /// Calls of functions against their others.
    struct Call {
        std::uint64_t fewest = 100;
        double of_mean = 2;
        double spreads = 8;             ///< standard deviations beyond the mean
        Time least = Time::from_us(1);  ///< beyond the mean
        double rare = 0.02;             ///< recursion, or no return: share of the calls at most
    } call;

    /// Jobs of tasks against their others.
    struct Job {
        std::size_t fewest = 8;
        double spreads = 6;             ///< times the width of the middle half, beyond the median …
        double of_median = 1;           ///< … and at least this many medians beyond it
        double of_median_few = 1.5;     ///< the same where there are less than twenty
        Time least = Time::from_us(5);  ///< beyond the median
        double common = 0.25;           ///< a larger share of deviants is how the task is
        double response_of_p95 = 2.5, response_of_median = 4, response_spreads = 10;
        Time response_least = Time::from_us(20);
        double response_common = 0.1;
        double growth = 0.05;       ///< of the median over the whole recording
        double growth_certain = 7;  ///< Student's t of the trend
    } job;

    /// Periods of tasks.
    struct Beat {
        std::size_t fewest = 20;
        double steady = 0.9;  ///< share of the periods within 5 % of the median that makes a grid
        double jitter = 0.1;  ///< of the period …
        double jitter_of_p90 = 5, jitter_most = 1.0 / 3;  ///< … or times what 90 % are within, up to a share of it
        std::size_t jitter_fewest = 5;                    ///< periods off the beat in one stretch
        std::size_t drift_row = 8;                        ///< periods in a row that make a rate
        double drift = 0.02;                              ///< of the period
        double never_ran = 0.2;                           ///< share of the recording after which a task should have run
    } beat;

    struct Starvation {
        std::size_t fewest = 10;
        double of_p95 = 8, of_median = 20, of_response = 8;
        Time least = Time::from_ms(50);
    } starvation;

    struct Overload {
        std::size_t fewest = 20;
        double of_p99 = 4;
        Time least = Time::from_ms(100);
    } overload;

    struct Queue {
        std::uint64_t fewest_sent = 50;
        std::uint64_t waits = 3;     ///< more full waits than these, and than …
        double waits_share = 0.005;  ///< … this share of what was sent, are meant to be
    } queue;

    struct Lock {
        double inversion = 0.1;         ///< share of the wait in which tasks in between ran
        std::size_t convoy_waits = 10;  ///< close together
        double convoy_share = 0.2;      ///< of those who took it had to wait then …
        double convoy_of_others = 5;    ///< … and so many times as many as elsewhere
        double overlap_common = 0.2;    ///< share of the uses that overlap: sharing is meant
    } lock;

    struct Image {
        std::uint64_t fewest_samples = 20;
        double outside = 0.1;  ///< share of samples where the image holds no code
    } image;

    /// What a device measured of a current, against what whoever runs usually draws.
    struct Current {
        std::size_t fewest = 8;         ///< stretches of one owner that say what is usual
        double spreads = 10;            ///< times the width of the middle half, beyond the median …
        double of_span = 0.12;          ///< … and at least this share of all that was measured
        std::size_t most = 3;           ///< so many episodes of that length are told; more are meant to be
        double of_others = 6;           ///< times as long as the next longest
        double samples = 50;            ///< lasts at least so many samples
        Time least = Time::from_ms(2);  ///< below which nobody worries
        std::size_t jobs = 20;          ///< of a task that say what one draws as a rule
        double of_median = 0.5;         ///< a job's mean current: at least this many medians beyond it …
        double job_spreads = 10;        ///< … and times the width of the middle half
        double rare = 0.02;             ///< share of its jobs at most
        double clock_ppm = 100;         ///< a device's clock that is further off is told
    } current;

    /// Values against themselves.
    struct Values {
        std::size_t fewest = 200;
        double rim = 0.005;        ///< share of the samples at either end that do not say where it usually is
        double widths = 3;         ///< so many times the usual range beyond it
        std::size_t episodes = 3;  ///< more of them are how it is
        double of_step = 12;       ///< a jump: times what 99 % of its steps are under
        std::size_t runs = 50;     ///< times that it changed, to say how long it rests as a rule
        std::size_t of_run = 25;       ///< at rest: times what 99 % of its rests are under …
        double stuck_share = 0.04; ///< … and this share of the recording
        std::size_t fewest_writes = 100;
        std::size_t odd_writes = 2;  ///< of somebody who else never writes it, at most …
        double odd_share = 0.02;     ///< … and this share of all
        std::size_t fewest_edges = 200;
        std::size_t most_stray = 4;  ///< edges without their handler
    } values;
};

}  // namespace mt
