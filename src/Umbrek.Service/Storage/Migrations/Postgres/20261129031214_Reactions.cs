using System;
using Microsoft.EntityFrameworkCore.Migrations;

#nullable disable

namespace Umbrek.Service.Storage.Migrations.Postgres
{
    /// <inheritdoc />
    public partial class Reactions : Migration
    {
        /// <inheritdoc />
        protected override void Up(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.CreateTable(
                name: "Reactions",
                columns: table => new
                {
                    Id = table.Column<Guid>(type: "uuid", nullable: false),
                    Name = table.Column<string>(type: "text", nullable: false),
                    NameKey = table.Column<string>(type: "text", nullable: false),
                    Check = table.Column<string>(type: "text", nullable: false),
                    GroupId = table.Column<Guid>(type: "uuid", nullable: true),
                    HostId = table.Column<Guid>(type: "uuid", nullable: true),
                    ScriptId = table.Column<Guid>(type: "uuid", nullable: false),
                    Number = table.Column<int>(type: "integer", nullable: true),
                    Values = table.Column<string>(type: "text", nullable: false),
                    WaitSeconds = table.Column<double>(type: "double precision", nullable: false),
                    SpacingSeconds = table.Column<double>(type: "double precision", nullable: false),
                    UsesVault = table.Column<bool>(type: "boolean", nullable: false),
                    Off = table.Column<bool>(type: "boolean", nullable: false),
                    OwnerId = table.Column<Guid>(type: "uuid", nullable: false),
                    Owner = table.Column<string>(type: "text", nullable: false),
                    Since = table.Column<DateTimeOffset>(type: "timestamp with time zone", nullable: false),
                    Version = table.Column<long>(type: "bigint", nullable: false)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_Reactions", x => x.Id);
                    table.ForeignKey(
                        name: "FK_Reactions_Groups_GroupId",
                        column: x => x.GroupId,
                        principalTable: "Groups",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_Reactions_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateTable(
                name: "ReactionsDone",
                columns: table => new
                {
                    ReactionId = table.Column<Guid>(type: "uuid", nullable: false),
                    AlertId = table.Column<Guid>(type: "uuid", nullable: false),
                    HostId = table.Column<Guid>(type: "uuid", nullable: false),
                    At = table.Column<DateTimeOffset>(type: "timestamp with time zone", nullable: false),
                    JobId = table.Column<Guid>(type: "uuid", nullable: true),
                    Problem = table.Column<string>(type: "text", nullable: true)
                },
                constraints: table =>
                {
                    table.PrimaryKey("PK_ReactionsDone", x => new { x.ReactionId, x.AlertId });
                    table.ForeignKey(
                        name: "FK_ReactionsDone_Hosts_HostId",
                        column: x => x.HostId,
                        principalTable: "Hosts",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                    table.ForeignKey(
                        name: "FK_ReactionsDone_Reactions_ReactionId",
                        column: x => x.ReactionId,
                        principalTable: "Reactions",
                        principalColumn: "Id",
                        onDelete: ReferentialAction.Cascade);
                });

            migrationBuilder.CreateIndex(
                name: "IX_Reactions_GroupId",
                table: "Reactions",
                column: "GroupId");

            migrationBuilder.CreateIndex(
                name: "IX_Reactions_HostId",
                table: "Reactions",
                column: "HostId");

            migrationBuilder.CreateIndex(
                name: "IX_Reactions_NameKey",
                table: "Reactions",
                column: "NameKey",
                unique: true);

            migrationBuilder.CreateIndex(
                name: "IX_ReactionsDone_AlertId",
                table: "ReactionsDone",
                column: "AlertId");

            migrationBuilder.CreateIndex(
                name: "IX_ReactionsDone_HostId",
                table: "ReactionsDone",
                column: "HostId");

            migrationBuilder.CreateIndex(
                name: "IX_ReactionsDone_ReactionId_HostId_At",
                table: "ReactionsDone",
                columns: new[] { "ReactionId", "HostId", "At" });
        }

        /// <inheritdoc />
        protected override void Down(MigrationBuilder migrationBuilder)
        {
            migrationBuilder.DropTable(
                name: "ReactionsDone");

            migrationBuilder.DropTable(
                name: "Reactions");
        }
    }
}
