/* The transistor ladder by hand: fourth-order Runge-Kutta, input at half steps, as a yardstick for the compiled
   kernels. `ladder_scalar` is the plain way to write it, with the library's tanh; `ladder_scalar_rational` and
   `ladder_lanes` use the same written-out tanh as the kernels. */
#include <math.h>
#include <stddef.h>

#define LANES 8

static inline double tanh_rational(double x) {
    double z = x * 0.125;
    z = z < -2.5 ? -2.5 : z;
    z = z > 2.5 ? 2.5 : z;
    double s = z * z;
    double n = z * (1.0 + s * (1.0 / 9.0 + s * (1.0 / 945.0)));
    double d = 1.0 + s * (4.0 / 9.0 + s * (1.0 / 63.0));
    for (int i = 0; i < 3; i++) {
        double n2 = n * n, d2 = d * d;
        n = (n + n) * d;
        d = n2 + d2;
    }
    return n / d;
}

#define DERIVATIVE(TANH, p0, p1, p2, p3, u, d0, d1, d2, d3)                                                       \
    do {                                                                                                          \
        double t0 = TANH((u) - k * (p3)), t1 = TANH(p0), t2 = TANH(p1), t3 = TANH(p2), t4 = TANH(p3);             \
        d0 = omega * (t0 - t1), d1 = omega * (t1 - t2), d2 = omega * (t2 - t3), d3 = omega * (t3 - t4);           \
    } while (0)

#define STEP(TANH, u0, u1, u2)                                                                                    \
    do {                                                                                                          \
        double a0, a1, a2, a3, b0, b1, b2, b3, c0, c1, c2, c3, e0, e1, e2, e3;                                    \
        DERIVATIVE(TANH, x0, x1, x2, x3, u0, a0, a1, a2, a3);                                                     \
        DERIVATIVE(TANH, x0 + half * a0, x1 + half * a1, x2 + half * a2, x3 + half * a3, u1, b0, b1, b2, b3);     \
        DERIVATIVE(TANH, x0 + half * b0, x1 + half * b1, x2 + half * b2, x3 + half * b3, u1, c0, c1, c2, c3);     \
        DERIVATIVE(TANH, x0 + step * c0, x1 + step * c1, x2 + step * c2, x3 + step * c3, u2, e0, e1, e2, e3);     \
        x0 += sixth * (a0 + 2 * (b0 + c0) + e0);                                                                  \
        x1 += sixth * (a1 + 2 * (b1 + c1) + e1);                                                                  \
        x2 += sixth * (a2 + 2 * (b2 + c2) + e2);                                                                  \
        x3 += sixth * (a3 + 2 * (b3 + c3) + e3);                                                                  \
    } while (0)

#define SCALAR(NAME, TANH)                                                                                        \
    void NAME(const double *u, double *out, size_t steps, double omega, double k, double half) {                  \
        const double step = 2 * half, sixth = step / 6;                                                           \
        double x0 = 0, x1 = 0, x2 = 0, x3 = 0;                                                                    \
        for (size_t t = 0; t < steps; t++) {                                                                      \
            out[t] = x3;                                                                                          \
            STEP(TANH, u[2 * t], u[2 * t + 1], u[2 * t + 2]);                                                     \
        }                                                                                                         \
    }

SCALAR(ladder_scalar, tanh)
SCALAR(ladder_scalar_rational, tanh_rational)

void ladder_lanes(const double *u, double *out, size_t steps, size_t filters, double omega, double k, double half) {
    const double step = 2 * half, sixth = step / 6;
    for (size_t base = 0; base < filters; base += LANES) {
        double s0[LANES] = {0}, s1[LANES] = {0}, s2[LANES] = {0}, s3[LANES] = {0};
        for (size_t t = 0; t < steps; t++) {
            for (int b = 0; b < LANES; b++) {
                double x0 = s0[b], x1 = s1[b], x2 = s2[b], x3 = s3[b];
                out[t * filters + base + b] = x3;
                STEP(tanh_rational, u[2 * t], u[2 * t + 1], u[2 * t + 2]);
                s0[b] = x0, s1[b] = x1, s2[b] = x2, s3[b] = x3;
            }
        }
    }
}
