"""A gRPC server that repeats, once and as a stream, and its client: `python grpc_pair.py serve PORT`,
and `python grpc_pair.py talk HOST:PORT NAME ROOT`. Messages are bytes, so nothing is generated."""

import sys
from concurrent import futures

import grpc


def same(octets):
    return octets


class Repeat(grpc.GenericRpcHandler):
    def service(self, details):
        if details.method == "/moor.Repeat/Once":
            return grpc.unary_unary_rpc_method_handler(lambda request, context: request)
        if details.method == "/moor.Repeat/Stream":
            return grpc.stream_stream_rpc_method_handler(lambda requests, context: requests)
        if details.method == "/moor.Repeat/Fail":
            return grpc.unary_unary_rpc_method_handler(fail)
        return None


def fail(request, context):
    context.set_trailing_metadata((("hut", "ravenstone"),))
    context.abort(grpc.StatusCode.NOT_FOUND, "no such hut")


if sys.argv[1] == "serve":
    server = grpc.server(futures.ThreadPoolExecutor(4))
    server.add_generic_rpc_handlers((Repeat(),))
    server.add_insecure_port(f"127.0.0.1:{sys.argv[2]}")
    server.start()
    print("listening", flush=True)
    server.wait_for_termination()

place, name, root = sys.argv[2:5]
credentials = grpc.ssl_channel_credentials(open(root, "rb").read())
options = [("grpc.ssl_target_name_override", name), ("grpc.default_authority", name)]
with grpc.secure_channel(place, credentials, options) as channel:
    once = channel.unary_unary("/moor.Repeat/Once")
    print(once(b"hello").decode())
    big = once(b"x" * 3_000_000)
    print(len(big))
    stream = channel.stream_stream("/moor.Repeat/Stream")
    print([part.decode() for part in stream(iter([b"a", b"b", b"c"]))])
    try:
        channel.unary_unary("/moor.Repeat/Fail")(b"")
    except grpc.RpcError as error:
        print(error.code().name, error.details(), dict(error.trailing_metadata())["hut"])
