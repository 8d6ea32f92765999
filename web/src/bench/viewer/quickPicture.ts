import * as THREE from 'three'
import { FullScreenQuad } from 'three/examples/jsm/postprocessing/Pass.js'

const VERTEX = /* glsl */ `
  varying vec2 at;
  void main() {
    at = uv;
    gl_Position = vec4(position.xy, 0.0, 1.0);
  }
`
const FRAGMENT = /* glsl */ `
  uniform sampler2D picture;
  varying vec2 at;
  void main() {
    gl_FragColor = texture2D(picture, at);
    #include <colorspace_fragment>
  }
`

/** Draws a scene without smoothing its edges, which is half of what a drawing costs without a graphics card, and more. */
export class QuickPicture {
  private readonly target = new THREE.WebGLRenderTarget(1, 1, { colorSpace: THREE.SRGBColorSpace })
  private readonly quad = new FullScreenQuad(
    new THREE.ShaderMaterial({
      vertexShader: VERTEX,
      fragmentShader: FRAGMENT,
      uniforms: { picture: { value: this.target.texture } },
      blending: THREE.NoBlending,
      depthTest: false,
      depthWrite: false,
    }),
  )
  private readonly size = new THREE.Vector2()

  render(renderer: THREE.WebGLRenderer, scene: THREE.Scene, camera: THREE.Camera) {
    renderer.getDrawingBufferSize(this.size)
    this.target.setSize(this.size.x, this.size.y)
    renderer.setRenderTarget(this.target)
    renderer.render(scene, camera)
    renderer.setRenderTarget(null)
    this.quad.render(renderer)
  }
  dispose() {
    this.target.dispose()
    this.quad.material.dispose()
    this.quad.dispose()
  }
}
