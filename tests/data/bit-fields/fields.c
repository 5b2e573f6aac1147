// Members of a few bits, as they stand in a word of states.
enum phase { REST, SLEW, TRACK, PARK };

struct state {
    unsigned ready : 1;
    enum phase phase : 2;
    unsigned tries : 5;
    int drift : 4;
    unsigned wide : 20;
    _Bool locked : 1;
    unsigned char port;
};
struct __attribute__((packed)) tight {
    unsigned char first;
    unsigned across : 12;
    unsigned rest : 4;
};

volatile struct state state = {1, TRACK, 9, -3, 0x54321, 1, 7};
volatile struct tight tight = {0x11, 0xABC, 0xD};

void _start(void) {
    state.tries++;
    tight.across++;
    for (;;) {
    }
}
