/**
 * How a laid colour is adjusted, in linear light: the very formula of the core's `lucid_relic.light.adjust`.
 * A test draws with it and holds the picture against what the core bakes.
 */
export const ADJUST = /* glsl */ `
  uniform vec4 whiteSeen;
  uniform vec4 toneFirst;
  uniform vec4 toneSecond;
  const vec3 LUMA = vec3(0.2126, 0.7152, 0.0722);
  vec3 adjustedLight(vec3 linear) {
    float light = toneFirst.x;
    float contrast = toneFirst.y;
    float highlights = toneFirst.z;
    float shadows = toneFirst.w;
    float warmth = toneSecond.x;
    float tint = toneSecond.y;
    float saturation = toneSecond.z;
    float gamma = toneSecond.w;
    vec3 gain = vec3(1.0);
    if (whiteSeen.w > 0.5)
      gain = clamp(dot(whiteSeen.rgb, LUMA) / max(whiteSeen.rgb, vec3(1e-4)), 0.25, 4.0);
    vec3 hue = exp(vec3(0.3 * warmth, -0.2 * tint, -0.3 * warmth));
    vec3 c = linear * gain * hue / dot(hue, LUMA) * exp2(2.0 * light);
    float bright = dot(c, LUMA);
    float seen = sqrt(clamp(bright, 0.0, 1.0));
    float tone = shadows * (1.0 - smoothstep(0.0, 0.7, seen)) + highlights * smoothstep(0.3, 1.0, seen);
    float toned = max(bright * exp2(1.2 * tone), 1e-6);
    toned = 0.18 * pow(toned / 0.18, exp2(contrast));
    toned = pow(toned, 1.0 / gamma);
    c *= toned / max(bright, 1e-6);
    return clamp(vec3(toned) + (1.0 + saturation) * (c - vec3(toned)), 0.0, 1.0);
  }
`
