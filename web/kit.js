// What the viewer page needs of three.js and three-mesh-bvh, and no more; bundled into one file by `make web`.
export {
  AmbientLight,
  BufferAttribute,
  BufferGeometry,
  Color,
  DirectionalLight,
  DoubleSide,
  LineBasicMaterial,
  LineSegments,
  Mesh,
  MeshLambertMaterial,
  MOUSE,
  OrthographicCamera,
  PerspectiveCamera,
  Raycaster,
  Scene,
  TOUCH,
  Vector2,
  Vector3,
  WebGLRenderer,
} from "three";
export { OrbitControls } from "three/examples/jsm/controls/OrbitControls.js";
export { acceleratedRaycast, MeshBVH } from "three-mesh-bvh";
